package access

import (
	"cmp"
	"context"
	"errors"
	"iter"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// MaxTokens is the maximum number of tokens of a board.
const MaxTokens = 1000

// Tokens holds the tokens of all boards, in a private ledger with an entry BOARD/ID for each. It is
// safe for concurrent use.
type Tokens struct {
	l     *ledger.Ledger
	since time.Time // uses of tokens are known from this time on
	stop  context.CancelFunc
	done  chan struct{}

	void func(names []string) error // see Open

	mu     sync.RWMutex // guards the following fields
	opened map[string]*Holder
	voided map[string]bool // the names of tokens that are void though they are in the ledger
}

// A Board is the life of a board, to which its tokens belong. It ends with the board's removal. A later
// board of the name accepts none of them.
type Board struct {
	Name string
	Life string // of its ledger
}

// accepts reports whether a token that was made for a life is one of the board.
func (b Board) accepts(life string) bool { return life == b.Life || b.Life == journal.AnyLife }

// A Holder is the holder of a token, while the token is unchanged.
type Holder struct {
	Grant
	node  *ledger.Node
	life  string // of the board that the token was made for
	hash  Hash
	rec   *ledger.Record // identifies the state of the token
	used  atomic.Bool    // somebody has shown the token
	valid context.Context
	end   context.CancelCauseFunc
}

// ErrNoToken is returned for anything that is no token of a board.
var ErrNoToken = refuse.As(wire.ErrUnauthorized, "there is no such board, or this is not one of its tokens; check that the link is complete and was not revoked")

// Open returns the tokens in a ledger. The ledger must stay open until Close. void makes tokens void, on all
// servers, while the ledger can't be written to for lack of space; nil means that nothing can.
func Open(l *ledger.Ledger, void func(names []string) error) *Tokens {
	ctx, stop := context.WithCancel(context.Background())
	t := &Tokens{l: l, since: time.Now(), stop: stop, done: make(chan struct{}), void: void, opened: map[string]*Holder{}, voided: map[string]bool{}}
	w := l.Watch(nil, nil)
	go func() {
		defer close(t.done)
		defer w.Close()
		for w.Wait(ctx, nil) {
			t.retire()
		}
	}()
	return t
}

// Close releases the tokens. The ledger stays open.
func (t *Tokens) Close() {
	t.stop()
	<-t.done
}

// retire ends the holders of tokens that have changed, on any server.
func (t *Tokens) retire() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for name, h := range t.opened {
		if n := t.l.Find(name); n == nil || n.Record() != h.rec {
			delete(t.opened, name)
			h.end(ErrNoToken)
		}
	}
	for name := range t.voided {
		if n := t.l.Find(name); n == nil || !n.Record().Found() {
			delete(t.voided, name)
		}
	}
}

// Void ends the holders of tokens that were made void, on any server. Their names are BOARD/ID.
func (t *Tokens) Void(names ...string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, name := range names {
		if n := t.l.Find(name); n == nil || !n.Record().Found() {
			continue // it is dropped already
		}
		t.voided[name] = true
		if h := t.opened[name]; h != nil {
			delete(t.opened, name)
			h.end(ErrNoToken)
		}
	}
}

// isVoid reports whether a token is void.
func (t *Tokens) isVoid(name string) bool {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.voided[name]
}

// For returns an error if the token was made for another life of the board.
func (h *Holder) For(b Board) error {
	if !b.accepts(h.life) {
		return ErrNoToken
	}
	return nil
}

// Find returns the holder of a token ID.SECRET, as used with Bearer. The token can be for an earlier
// board of that name: see For. The error is an ErrUnauthorized, the same for every cause.
func (t *Tokens) Find(board, token string, now time.Time) (*Holder, error) {
	id, secret, ok := strings.Cut(token, ".")
	name := board + "/" + id
	if !ok || entry.CheckName(name) != nil || strings.Contains(id, "/") {
		return nil, ErrNoToken
	}
	n := t.l.Find(name)
	if n == nil {
		return nil, ErrNoToken
	}
	h, err := t.holder(n, name, id, n.Record())
	if err != nil || !h.hash.Of(Secret(secret)) || h.Over(now) {
		return nil, ErrNoToken
	}
	if !h.used.Load() {
		h.used.Store(true)
	}
	return h, nil
}

// Current applies all changes of tokens that any server has made. The errors are those of
// ledger.Current.
func (t *Tokens) Current(ctx context.Context) error { return t.l.Current(ctx) }

// Still reports whether a holder's token is unchanged.
func (t *Tokens) Still(h *Holder, now time.Time) bool {
	return h.valid.Err() == nil && h.node.Record() == h.rec && !h.Over(now)
}

// holder returns the holder of a token in a record.
func (t *Tokens) holder(n *ledger.Node, name, id string, rec *ledger.Record) (*Holder, error) {
	t.mu.RLock()
	h, void := t.opened[name], t.voided[name]
	t.mu.RUnlock()
	if h != nil && h.rec == rec {
		return h, nil
	}
	if void || !rec.Found() {
		return nil, ErrNoToken
	}
	k, err := readKept(id, rec.Value)
	if err != nil {
		return nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if was := t.opened[name]; was != nil {
		if was.rec == rec {
			return was, nil
		}
		was.end(ErrNoToken)
	}
	h = &Holder{Grant: k.Grant, node: n, life: k.life, hash: k.hash, rec: rec}
	h.valid, h.end = context.WithCancelCause(context.Background())
	t.opened[name] = h
	if n := t.l.Find(name); n == nil || n.Record() != rec || t.voided[name] { // it has changed meanwhile, and no event will follow
		delete(t.opened, name)
		h.end(ErrNoToken)
	}
	return h, nil
}

// While returns a context that also ends when the token is revoked or expires.
func (h *Holder) While(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, end := context.WithCancelCause(ctx)
	stop := context.AfterFunc(h.valid, func() { end(ErrNoToken) })
	var timer *time.Timer
	if !h.Until.IsZero() {
		timer = time.AfterFunc(time.Until(h.Until), func() { end(ErrNoToken) })
	}
	return ctx, func() {
		stop()
		if timer != nil {
			timer.Stop()
		}
		end(context.Canceled)
	}
}

// Ended returns the error of a context of While whose token ended, else nil.
func Ended(ctx context.Context) error {
	if err := context.Cause(ctx); errors.Is(err, wire.ErrUnauthorized) {
		return err
	}
	return nil
}

// each iterates over the tokens of a board. It ends at the first that can't be read.
func (t *Tokens) each(board Board) iter.Seq2[kept, error] {
	return func(yield func(kept, error) bool) {
		snap := t.l.Snapshot()
		defer snap.Release()
		for e := range snap.Entries(board.Name+"/", "") {
			k, err := readKept(strings.TrimPrefix(e.Name, board.Name+"/"), e.Record.Value)
			if err == nil && (!board.accepts(k.life) || t.isVoid(e.Name)) {
				continue
			}
			if !yield(k, err) || err != nil {
				return
			}
		}
	}
}

// List returns the tokens of a board that by may revoke: the oldest first, and those of one moment by label.
func (t *Tokens) List(board Board, by Grant) (list []Grant, err error) {
	for k, err := range t.each(board) {
		if err != nil {
			return nil, err
		}
		if by.Covers(k.Grant) {
			list = append(list, k.Grant)
		}
	}
	slices.SortStableFunc(list, func(a, b Grant) int { return cmp.Or(a.Made.Compare(b.Made), strings.Compare(a.Label, b.Label)) })
	return list, nil
}

// Revoke revokes the tokens of a board that those finds, all or none. For a by with a prefix,
// tokens that List does not return don't exist. If there is no space left to store that, the tokens are
// made void. The errors are value.ErrAbsent if there is none, and those of Make.
func (t *Tokens) Revoke(board Board, by Grant, those func(Grant) bool) (n int, err error) {
	n, _, err = ledger.Do(t.l, entry.Author{By: by.ID}, func(tx *ledger.Tx) (n int, err error) {
		if err := t.exists(by, tx, board); err != nil {
			return 0, err
		}
		all, err := keptOf(tx, board.Name)
		if err != nil {
			return 0, err
		}
		names, err := t.chosen(all, board, by, those)
		for _, name := range names {
			tx.Drop(name)
		}
		return len(names), err
	})
	if t.void == nil || !errors.Is(err, wire.ErrNoSpace) {
		return n, err
	}
	var all []kept
	for k, err := range t.each(board) {
		if err != nil {
			return 0, err
		}
		all = append(all, k)
	}
	names, err := t.chosen(all, board, by, those)
	if err == nil {
		err = t.void(names)
	}
	if err != nil {
		return 0, err
	}
	t.Void(names...)
	return len(names), nil
}

// chosen returns the names of the tokens that by may revoke and those finds.
func (t *Tokens) chosen(all []kept, board Board, by Grant, those func(Grant) bool) (names []string, err error) {
	for _, k := range all {
		name := board.Name + "/" + k.ID
		if !board.accepts(k.life) || t.isVoid(name) || !those(k.Grant) || by.Prefix != "" && !by.Covers(k.Grant) { // by must not learn that it exists
			continue
		}
		if err := by.covers(k.Grant); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	if len(names) == 0 {
		return nil, refuse.As(value.ErrAbsent, "the board has no such token")
	}
	return names, nil
}

// Derived returns the tokens of a board whose secret equals the result of secret for their ID.
func (t *Tokens) Derived(board Board, secret func(id string) Secret, now time.Time) (Grant, Secret, bool) {
	for k, err := range t.each(board) {
		if err == nil && k.hash.Of(secret(k.ID)) && !k.Over(now) {
			return k.Grant, secret(k.ID), true
		}
	}
	return Grant{}, "", false
}

// Drop drops the tokens of a board that was removed. They are of no use any more.
func (t *Tokens) Drop(board Board) error {
	_, err := t.Revoke(board, Grant{May: Admin}, func(Grant) bool { return true })
	if errors.Is(err, value.ErrAbsent) {
		return nil
	}
	return err
}
