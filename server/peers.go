package server

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/access"
)

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
