package server

import "net/http"

// What pages of another origin may send, and see (WHATWG Fetch, CORS).
const (
	corsMethods = "GET, HEAD, PUT, POST, DELETE"
	corsHeaders = "Authorization, Accept, Content-Type, If-Match, If-None-Match, Idempotency-Key, Idempotency-Since, Client-Instance, Client-Name, Last-Event-ID"
	corsExposed = "ETag, Retry-After, Repeated"
	corsMaxAge  = "600" // seconds
)

var (
	anyOrigin = []string{"*"}
	exposed   = []string{corsExposed}
)

// allowOrigin has the browser show the answer to the page that asked, on errors too: to
// every page where it takes a token, which no browser sends by itself; in development mode
// to those that were let through.
func (s *Server) allowOrigin(h http.Header, r *http.Request) {
	if !s.dev {
		h["Access-Control-Allow-Origin"], h["Access-Control-Expose-Headers"] = anyOrigin, exposed
		return
	}
	origins := r.Header.Values("Origin")
	if len(origins) != 1 || !ownOrigin(origins[0]) {
		return
	}
	h.Set("Access-Control-Allow-Origin", origins[0])
	h.Set("Access-Control-Expose-Headers", corsExposed)
	h.Add("Vary", "Origin")
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
