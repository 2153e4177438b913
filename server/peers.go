package server

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/access"
)

// Peers are what a server has to do with others on the same store, of a store that has
// others. They are used by several goroutines.
type Peers interface {
	// Home says where a board is written to, which is fastest when one server does; empty:
	// here.
	Home(board string) string
	// Pass has a server answer a request, whose body is given, and is false where that did
	// not: then nothing was done, or it counts once if it comes again. The error is what to
	// answer where that is not known.
	Pass(w http.ResponseWriter, r *http.Request, body []byte, home string) (answered bool, err error)
	// From gives the address, HOST:PORT, of the client of a request that another server
	// passed on, and takes what says so out of it; empty: none did.
	From(r *http.Request) string
}

// passedOn has a request that another server passed on be its client's.
func (s *Server) passedOn(r *http.Request) *http.Request {
	client := s.peers.From(r)
	if client == "" {
		return r
	}
	return r.WithContext(context.WithValue(r.Context(), peerKey{}, &peer{address: addressFrom(client), passed: true}))
}

// passOn has the home of the board answer a call that changes it, which was authorised and
// may be made here. done says that it did; else it is to be answered here.
func (c *call) passOn() (done bool, err error) {
	to := c.way.route
	if c.s.peers == nil || to.may < access.Add || c.board == "" || strings.Contains(to.path, "/tokens") || to.may == access.Admin {
		return false, nil
	}
	if p := c.peer; p != nil && p.passed {
		return false, nil
	}
	home := c.s.peers.Home(c.board)
	if home == "" {
		return false, nil
	}
	body, err := c.body()
	if err != nil {
		return false, err
	}
	done, err = c.s.peers.Pass(c.w, c.r, body, home)
	c.r.Body = io.NopCloser(bytes.NewReader(body))
	return done, err
}
