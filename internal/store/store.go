// Package store is where a server keeps its boards: each is a ledger, by its
// name. Files keeps them in files on one machine.
package store

import (
	"context"
	"errors"

	"github.com/small-pantry/pantry/internal/ledger"
)

// A Store keeps boards. It is safe for concurrent use.
type Store interface {
	// Board gives the board of a name, for as long as release is not called,
	// which must be once. It waits for no other board. One that doesn't exist is
	// made with create, and else is ErrNoBoard; rules.ErrQuota is returned for
	// one that would be one too many.
	Board(ctx context.Context, name string, create bool) (l *ledger.Ledger, release func(), err error)
	// Boards tells of the boards whose names come after after, by their order,
	// at most limit of them (0: all). It loads none.
	Boards(ctx context.Context, after string, limit int) ([]Info, error)
	// Remove removes a board for good: whoever holds it gets ledger.ErrClosed from
	// then on, and one that is made later has none of its marks. The error is
	// ErrNoBoard where there is none.
	Remove(ctx context.Context, name string) error
	// Tokens gives the ledger of the tokens of all boards, which is no board. It is that
	// of the store, and closed with it.
	Tokens(ctx context.Context) (*ledger.Ledger, error)
	// Open is how many boards are in memory.
	Open() int
	// Ready says why boards can't be read and written at present; nil: they can.
	Ready(ctx context.Context) error
	// News gives a channel that is closed when the next board is made.
	News() <-chan struct{}
	// Close closes all boards. Nothing else may be called after it.
	Close() error
}

// A Shared store is one to which other servers write as well.
type Shared interface {
	Store
	// Near says whether what they write comes in by itself, as it should. Where it does
	// not, what is to be relied on has to be asked for: see ledger.Ledger.Current.
	Near() bool
	// Servers is how many there are, this one among them, as far as it knows.
	Servers() int
}

// An Info is what can be told of a board without loading it.
type Info struct {
	Board   string
	Version int64
	Bytes   int64 // of its file
}

var (
	// ErrNoBoard is returned for a board that doesn't exist.
	ErrNoBoard = errors.New("there is no such board")
	// ErrInUse is returned for a data directory that another server has.
	ErrInUse = errors.New("in use by another server")
)
