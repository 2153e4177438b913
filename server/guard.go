package server

import (
	"context"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/wire"
)

// authorise checks that the caller has a right, before anything but the request's header is read. A
// call that needs no right is not checked.
func (c *granted) authorise(needs access.Right) error {
	if c.s.dev {
		c.grant = access.Grant{May: access.Admin}
		return guardDev(c.r, c.opensPage() || c.wantsPage())
	}
	if needs == access.Nothing {
		return nil
	}
	if err := c.identify(); err != nil {
		if c.bearer() != "" {
			c.s.met.strangers.Inc()
			if err := c.s.strangers.slow(&c.request); err != nil {
				return err
			}
		}
		return err
	}
	c.knows()
	return c.grant.Needs(needs)
}

// bearer returns the token of the call (RFC 6750, 2.1), or "" if there is none or several.
func (c *request) bearer() string {
	given := c.r.Header["Authorization"]
	if len(given) != 1 {
		return ""
	}
	scheme, token, _ := strings.Cut(given[0], " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return ""
	}
	return strings.TrimSpace(token)
}

// identify finds the caller's grant. The error is the same for a wrong token, for one of another
// board, and for a board that does not exist.
func (c *granted) identify() error {
	given, p := c.r.Header["Authorization"], c.peer
	if p != nil && len(given) == 1 && (c.s.shared == nil || c.s.shared.Near()) {
		// A client that asks again over the same connection is known, as long as its token is
		// unchanged.
		if last := p.last.Load(); last != nil && last.given == given[0] && last.board == c.board && c.s.tokens.Still(last.holder, c.now) {
			c.grant, c.holder = last.holder.Grant, last.holder
			return nil
		}
	}
	token := c.bearer()
	switch {
	case token == "":
		return wire.Refuse("unauthorized", "this needs a token: the part after # of a board's link, in the header Authorization, after Bearer")
	case strings.HasPrefix(token, access.AdminName+".") && c.s.admin.hash.Of(access.Secret(token)):
		c.grant = access.Grant{ID: access.AdminName, May: access.Admin, Label: access.AdminName}
		return nil
	}
	if c.s.shared != nil && !c.s.shared.Near() { // it can have been revoked on another server
		if err := c.s.tokens.Current(c.r.Context()); err != nil {
			return err
		}
	}
	h, err := c.s.tokens.Find(c.board, token, c.now)
	if err != nil && c.s.shared != nil { // another server can have made it just now
		if err := c.s.tokens.Current(c.r.Context()); err != nil {
			return err
		}
		h, err = c.s.tokens.Find(c.board, token, c.now)
	}
	if err == nil {
		c.grant, c.holder = h.Grant, h
		if p != nil {
			p.last.Store(&asked{c.board, given[0], h})
		}
	}
	return err
}

// A peer is the other end of a connection. What it keeps of the last request serves the rows of GET
// and 304 in docs/benchmarks.md: without it, such a GET allocates 39 times in place of 24.
type peer struct {
	conn    net.Conn    // nil if another server passed the request on
	known   atomic.Bool // it has sent a valid token
	passed  bool        // it is another server, which asks for the client with the address
	address string
	last    atomic.Pointer[asked] // the caller of the last request over it
	paces   atomic.Pointer[paces] // and the paces of that request
	way     atomic.Pointer[way]   // the route of the last request
}

type asked struct {
	board, given string // the header, unchanged
	holder       *access.Holder
}

type peerKey struct{}

// withPeer stores the other end of a connection in the context of its requests.
func (s *Server) withPeer(ctx context.Context, conn net.Conn) context.Context {
	p := &peer{conn: conn, address: addressFrom(conn.RemoteAddr().String())}
	if !s.dev {
		s.conns.add(conn, p.address)
	}
	return context.WithValue(ctx, peerKey{}, p)
}

// knows stops counting the call's connection among those without a valid token.
func (c *granted) knows() {
	if p := c.peer; p != nil && p.conn != nil && p.known.CompareAndSwap(false, true) {
		c.s.conns.done(p.conn)
	}
}

// peerOf returns the other end of a request's connection; nil means unknown.
func peerOf(r *http.Request) *peer {
	p, _ := r.Context().Value(peerKey{}).(*peer)
	return p
}

// challenge is the header that asks for authorisation (RFC 6750, 3).
func (c *request) challenge() string {
	if c.bearer() == "" {
		return `Bearer realm="small-pantry"`
	}
	return `Bearer realm="small-pantry", error="invalid_token"`
}

// Strangers are addresses from which wrong tokens come. Their answers are delayed, so that no one
// can try many. Right tokens are known before and never delayed.
type strangers struct {
	mu      sync.Mutex // guards the following fields
	failed  map[string]failures
	waiting int
}

type failures struct {
	count int
	since time.Time
}

const (
	freeTries    = 10 // wrong tokens of an address in a minute that are answered at once
	lateBy       = time.Second
	maxStrangers = 10_000 // addresses that are remembered
	maxLate      = 100    // answers that are delayed at the same time; beyond it, the answer is 429
)

// slow delays the answer to a wrong token, or refuses it if too many are delayed.
func (s *strangers) slow(c *request) error {
	if !s.late(c.address(), time.Now()) {
		return nil
	}
	s.mu.Lock()
	many := s.waiting >= maxLate
	if !many {
		s.waiting++
	}
	s.mu.Unlock()
	if many {
		p := wire.Refuse("rate-limited", "too many wrong tokens came from your address: try again in a minute")
		p.RetryAfter = 60
		return p
	}
	select {
	case <-time.After(lateBy):
	case <-c.r.Context().Done():
	}
	s.mu.Lock()
	s.waiting--
	s.mu.Unlock()
	return nil
}

// late counts a wrong token of an address, and reports whether there were too many before.
func (s *strangers) late(address string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failed == nil {
		s.failed = map[string]failures{}
	}
	f, known := s.failed[address]
	if now.Sub(f.since) > time.Minute {
		f = failures{since: now}
	}
	if !known && len(s.failed) >= maxStrangers {
		for other, f := range s.failed {
			if now.Sub(f.since) > time.Minute {
				delete(s.failed, other)
			}
		}
		if len(s.failed) >= maxStrangers { // a new address counts as one that tries tokens
			return true
		}
	}
	f.count++
	s.failed[address] = f
	return f.count > freeTries
}

// address returns the address that a call comes from. For IPv6 it is the network, because one
// machine has all of its addresses.
func (c *request) address() string {
	if c.from == "" {
		if c.peer != nil {
			c.from = c.peer.address
		} else {
			c.from = addressFrom(c.r.RemoteAddr)
		}
		if client := c.s.forwarded(c.r, c.from); client != "" {
			c.from = client
		}
	}
	return c.from
}

func addressFrom(remote string) string {
	host, _, err := net.SplitHostPort(remote)
	ip := net.ParseIP(host)
	if err != nil || ip == nil {
		return remote
	}
	if ip.To4() == nil {
		return ip.Mask(net.CIDRMask(64, 128)).String()
	}
	return ip.String()
}
