package server

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/access"
)

// Peers are the other servers of a store that several servers share. They are safe for concurrent
// use.
type Peers interface {
	// Home returns the address of the server that writes a board, which is faster than several
	// writing it; "" is this one.
	Home(board string) string
	// Pass sends a request to another server with the given body. done is false if that server did
	// not answer it: either nothing was done, or it counts once when it is repeated. The error is
	// the answer if the outcome is unknown.
	Pass(w http.ResponseWriter, r *http.Request, body []byte, home string) (answered bool, err error)
	// From returns the address, HOST:PORT, of the client of a request that another server passed
	// on, and removes the headers that say so; "" means that none did.
	From(r *http.Request) string
}

// passedOn treats a request that another server passed on as its client's.
func (s *Server) passedOn(r *http.Request) *http.Request {
	client := s.peers.From(r)
	if client == "" {
		return r
	}
	return r.WithContext(context.WithValue(r.Context(), peerKey{}, &peer{address: addressFrom(client), passed: true}))
}

// passOn lets the board's home answer a call that changes the board. The call is already
// authorised. done reports that the home answered; otherwise this server must.
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
