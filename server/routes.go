package server

import (
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/go-chi/chi/v5"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/wire"
)

// A route is a handler with the right that it needs.
type route struct {
	may    access.Right
	handle handler
	path   string // as it was registered; empty means any other
	named  bool   // the end of the path is a name
}

const (
	board   = "/v1/boards/{board}"
	keyPath = board + "/keys/*"
)

// router has the routes of all paths and methods. Paths are matched in their escaped form, because
// a name can hold any character.
func (s *Server) router() routes {
	r := routes{paths: chi.NewRouter(), of: map[string]map[string]route{}}
	on := func(path string, methods map[string]route) {
		takes := strings.Join(slices.Sorted(maps.Keys(methods)), ", ")
		all := map[string]route{"": {path: path, handle: func(c *call) error { // all methods except the following
			if c.r.Method == http.MethodOptions && c.r.Header.Get("Access-Control-Request-Method") != "" {
				return c.preflight()
			}
			c.w.Header().Set("Allow", takes)
			return wire.Refuse("method", "this path takes %s only", takes)
		}}}
		for method, one := range methods {
			one.path, one.named = path, strings.HasSuffix(path, "/*")
			all[method] = one
		}
		r.paths.Get(path, http.NotFound) // it finds paths only, for any method
		r.of[path] = all
	}
	on("/", map[string]route{"GET": {may: access.Nothing, handle: (*call).front}, "HEAD": {may: access.Nothing, handle: (*call).front}})
	on("/healthz", map[string]route{"GET": {may: access.Nothing, handle: (*call).health}, "HEAD": {may: access.Nothing, handle: (*call).health}})
	on("/readyz", map[string]route{"GET": {may: access.Nothing, handle: (*call).ready}, "HEAD": {may: access.Nothing, handle: (*call).ready}})
	on("/metrics", map[string]route{"GET": {may: access.Admin, handle: (*call).metrics}})
	on("/openapi.json", map[string]route{"GET": {may: access.Nothing, handle: (*call).openAPI}})
	for _, path := range []string{"/small-pantry.js", "/small-pantry.d.ts", "/small-pantry/{file}"} {
		on(path, map[string]route{"GET": {may: access.Nothing, handle: (*call).ownFile}, "HEAD": {may: access.Nothing, handle: (*call).ownFile}})
	}
	on("/boards/{board}", map[string]route{"GET": {may: access.Nothing, handle: (*call).boardPage}, "HEAD": {may: access.Nothing, handle: (*call).boardPage}})
	on("/v1/boards", map[string]route{"GET": {may: access.Admin, handle: (*call).listBoards}, "POST": {may: access.Admin, handle: (*call).makeBoard}})
	on(board, map[string]route{"GET": {may: access.Read, handle: (*call).facts}, "DELETE": {may: access.Admin, handle: (*call).removeBoard}})
	on(board+"/events", map[string]route{"GET": {may: access.Read, handle: (*call).events}})
	on(board+"/keys", map[string]route{"GET": {may: access.Read, handle: (*call).listKeys}, "POST": {may: access.Write, handle: (*call).declare}})
	on(keyPath, map[string]route{"DELETE": {may: access.Own, handle: (*call).withdraw}})
	on(board+"/tokens", map[string]route{
		"GET": {may: access.Own, handle: (*call).listTokens}, "POST": {may: access.Own, handle: (*call).makeToken}, "DELETE": {may: access.Own, handle: (*call).revokeLabel},
	})
	on(board+"/tokens/{token}", map[string]route{"DELETE": {may: access.Own, handle: (*call).revokeToken}})
	on(board+"/commit", map[string]route{"POST": {may: access.Add, handle: (*call).commit}})
	on(board+"/history", map[string]route{"GET": {may: access.Read, handle: (*call).history}})
	on(board+"/entries", map[string]route{"GET": {may: access.Read, handle: (*call).listEntries}, "HEAD": {may: access.Read, handle: (*call).listEntries}})
	on(board+"/entries/*", map[string]route{
		"GET": {may: access.Read, handle: (*call).getEntry}, "HEAD": {may: access.Read, handle: (*call).getEntry}, "PUT": {may: access.Write, handle: (*call).putEntry},
		"POST": {may: access.Add, handle: (*call).postEntry}, "DELETE": {may: access.Write, handle: (*call).deleteEntry},
	})
	return r
}

// Routes are the routes by pattern and method.
type routes struct {
	paths *chi.Mux
	of    map[string]map[string]route
}

// nowhere is the route of an unknown path.
var nowhere = route{handle: func(c *call) error {
	if c.wantsPage() {
		return c.page()
	}
	return wire.Refuse("no-route", "there is nothing at this path; boards are at /v1/boards/BOARD/entries")
}}

// A way is the route of a request with the parts of its escaped path: the board, and the rest as a
// name.
type way struct {
	method, path string
	route        route
	board, last  string
	tag          atomic.Pointer[listTag] // the last tag of a list
}

// maxWay is the maximum length of a path that is kept with its connection.
const maxWay = 512

// find returns the way of a request.
func (r routes) find(method, path string) *way {
	found := chi.NewRouteContext()
	to := &way{method: method, path: path, route: nowhere}
	pattern := r.paths.Find(found, http.MethodGet, path)
	if pattern == "" {
		return to
	}
	known := false
	if to.route, known = r.of[pattern][method]; !known {
		to.route = r.of[pattern][""]
	}
	if all := found.URLParams.Values; len(all) > 0 {
		to.board, to.last = found.URLParam("board"), all[len(all)-1]
	}
	return to
}
