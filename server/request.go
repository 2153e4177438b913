package server

import (
	"cmp"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// A request is a request with its answer.
type request struct {
	s     *Server
	w     *recorder
	r     *http.Request
	way   *way
	now   time.Time // when it arrived
	peer  *peer     // the other end of the connection; nil means unknown
	id    string    // in the log and in the answer; see known
	board string    // as in the path, unescaped
	name  string    // of the entry, if the request is about one
	from  string    // see address
	rec   recorder  // what w points to
}

// header returns the first value of a header. name must be in the form of http.Header, because
// http.Header.Get would compute it each time.
func (c *request) header(name string) string {
	if given := c.r.Header[name]; len(given) > 0 {
		return given[0]
	}
	return ""
}

// tag sets the entity tag of the answer.
func (c *request) tag(t string) { c.w.Header()["Etag"] = []string{t} }

// query returns the parameters of the call. It refuses parameters that the call does not take,
// because a misspelt one must not be ignored, and repeated ones, unless their name is marked with a
// star.
func (c *request) query(takes ...string) (url.Values, error) {
	if c.r.URL.RawQuery == "" {
		return nil, nil
	}
	q, err := url.ParseQuery(c.r.URL.RawQuery)
	if err != nil {
		return nil, wire.Refuse(wire.Invalid, "the query can't be read: %v", err)
	}
	for name, values := range q {
		switch {
		case slices.Contains(takes, name+"*"):
		case !slices.Contains(takes, name) && len(takes) == 0:
			return nil, wire.Refuse(wire.Invalid, "there is no %s in this query; it takes none", scan.Quote(name))
		case !slices.Contains(takes, name):
			return nil, wire.Refuse(wire.Invalid, "there is no %s in this query; it takes %s", scan.Quote(name), strings.ReplaceAll(strings.Join(takes, ", "), "*", ""))
		case values[0] == "" && name != "after":
			return nil, wire.Refuse(wire.Invalid, "%s is empty in this query", name)
		case len(values) > 1:
			return nil, wire.Refuse(wire.Invalid, "%s is given %d times in this query, and can be given once", name, len(values))
		}
	}
	return q, nil
}

// isTrue reads a boolean parameter; an absent one is false.
func isTrue(q url.Values, name string) (bool, error) {
	switch s := q.Get(name); s {
	case "", "false":
		return false, nil
	case "true":
		return true, nil
	default:
		return false, wire.Refuse(wire.Invalid, "%s is %s, and must be true or false", name, scan.Quote(s))
	}
}

// route returns the pattern of the requested path.
func (c *request) route() string { return cmp.Or(c.way.route.path, "none") }

// known returns the id of the request in the log and in the answer.
func (c *request) known() string {
	if c.id == "" {
		c.id = strconv.FormatUint(rand.Uint64(), 36)
	}
	return c.id
}
