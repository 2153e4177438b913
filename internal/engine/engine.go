// Package engine runs a server on another store than files. Only modules of this project use it: package
// server does not export it.
package engine

import (
	"net/http"

	"github.com/small-pantry/pantry/internal/store"
)

// An Opener opens a store for a server, with the maximum number of boards and a function for
// problems that the store survives.
type Opener func(boards int, problem func(board string, err error)) (store.Store, error)

// New returns a *server.Server on another store, which it closes. options is a server.Options. Of its
// Data, only the admin token is used, which must be the same for all servers of one store. The errors
// are server.ErrDevOnly, those of open, and those of the file system. Package server sets New.
var New func(options any, open Opener) (any, error)

// Serve is New for the types of package server.
func Serve[S, O any](options O, open Opener) (S, error) {
	made, err := New(options, open)
	s, _ := made.(S)
	return s, err
}

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
