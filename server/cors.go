package server

import "net/http"

// What pages of another origin may send, and see (WHATWG Fetch, CORS).
const (
	corsMethods = "GET, HEAD, PUT, POST, DELETE"
	corsHeaders = "Authorization, Accept, Content-Type, If-Match, If-None-Match, Idempotency-Key, Idempotency-Since, Client-Instance, Client-Name, Last-Event-ID"
	corsMaxAge  = "600" // seconds
)

var (
	anyOrigin = []string{"*"}
	exposed   = []string{"ETag, Retry-After, Repeated"}
)

// allowOrigin has the browser show the answer to the page that asked, on errors too: to
// every page where it takes a token, which no browser sends by itself; in development mode
// to those that were let through. Who is no page of another origin is told nothing of it.
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

// preflight answers a browser that asks whether a page may send something.
func (c *call) preflight() error {
	h := c.w.Header()
	h.Set("Access-Control-Allow-Methods", corsMethods)
	h.Set("Access-Control-Allow-Headers", corsHeaders)
	h.Set("Access-Control-Max-Age", corsMaxAge)
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}
