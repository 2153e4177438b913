package server

import "net/http"

// What pages of another origin can send and see (WHATWG Fetch, CORS).
const (
	corsMethods = "GET, HEAD, PUT, POST, DELETE"
	corsHeaders = "Authorization, Accept, Content-Type, If-Match, If-None-Match, Idempotency-Key, Idempotency-Since, Seen, Client-Instance, Client-Name, Last-Event-ID"
	corsMaxAge  = "600" // seconds
)

var (
	anyOrigin = []string{"*"}
	exposed   = []string{"ETag, Retry-After, Repeated"}
)

// allowOrigin lets the browser show the answer to the page that asked, errors too: to every page if
// the server uses tokens, because no browser sends a token by itself; in development mode to pages
// that guardDev let through. Requests without another origin get no such headers.
func (s *Server) allowOrigin(h http.Header, r *http.Request) {
	origins := r.Header["Origin"]
	switch {
	case len(origins) == 0:
	case !s.dev:
		h["Access-Control-Allow-Origin"], h["Access-Control-Expose-Headers"] = anyOrigin, exposed
	case len(origins) == 1 && ownOrigin(origins[0]):
		h["Access-Control-Allow-Origin"], h["Access-Control-Expose-Headers"] = origins, exposed
	}
}

// preflight answers a browser that asks whether a page can send a request.
func (c *call) preflight() error {
	h := c.w.Header()
	h.Set("Access-Control-Allow-Methods", corsMethods)
	h.Set("Access-Control-Allow-Headers", corsHeaders)
	h.Set("Access-Control-Max-Age", corsMaxAge)
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}
