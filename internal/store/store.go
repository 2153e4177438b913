// Package store is where a server keeps its boards. Each board is a ledger with a name. Files
// stores them in files on one machine.
package store

import (
	"context"
	"errors"

	"github.com/small-pantry/pantry/internal/ledger"
)

// A Store stores boards. It is safe for concurrent use.
type Store interface {
	// Board returns the board of a name. The caller must call release exactly once. Board waits for
	// no other board. With create it creates a missing board; otherwise the error is ErrNoBoard. It
	// returns rules.ErrQuota if the limit of boards is reached.
	Board(ctx context.Context, name string, create bool) (l *ledger.Ledger, release func(), err error)
	// Boards returns the boards whose names follow after, in order, at most limit of them (0: all).
	// It loads none.
	Boards(ctx context.Context, after string, limit int) ([]Info, error)
	// Remove removes a board for good. Its holders then get ledger.ErrClosed. A later board of this
	// name never matches its marks. A life, which the caller's ledger of the board has, restricts it to
	// that life; "" means any. The error is ErrNoBoard if there is none.
	Remove(ctx context.Context, name, life string) error
	// Tokens returns the ledger of the tokens of all boards, which is not a board. The store closes
	// it.
	Tokens(ctx context.Context) (*ledger.Ledger, error)
	// Open returns the number of loaded boards.
	Open() int
	// Ready returns the reason why boards can't be read and written at present, or nil.
	Ready(ctx context.Context) error
	// Make returns the board of a name, and creates it if there is none; made reports that. The errors
	// are those of Board.
	Make(ctx context.Context, name string) (l *ledger.Ledger, release func(), made bool, err error)
	// News returns a channel that is closed when the next board is created.
	News() <-chan struct{}
	// Close closes all boards. Nothing else can be called afterwards.
	Close() error
}

// A Shared store is one that other servers write to as well.
type Shared interface {
	Store
	// Near reports whether the feed of other servers' writes is up to date. If not, a caller that
	// needs the newest state must request it: see ledger.Ledger.Current.
	Near() bool
	// State returns what keeps the store from working fully: wire.ErrNoSpace, wire.ErrNoMajority or
	// wire.ErrNoNode; nil means nothing, as far as the last requests say.
	State() error
	// VoidTokens makes tokens void on all servers without storing anything, by their names in the ledger of
	// Tokens: for a store without space.
	VoidTokens(names []string) error
	// OnVoid has f called with the names of tokens that are void now, and then of those that any server makes
	// void. It is called once, after Tokens.
	OnVoid(f func(names ...string)) error
	// Servers returns the number of servers, including this one, as far as it knows.
	Servers() int
}

// An Info describes a board without loading it.
type Info struct {
	Board   string
	Version int64
	Bytes   int64 // of its file
}

var (
	// ErrNoBoard is returned for a board that does not exist.
	ErrNoBoard = errors.New("the board does not exist")
	// ErrInUse is returned for a data directory that another server uses.
	ErrInUse = errors.New("in use by another server")
)
