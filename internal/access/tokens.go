package access

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// MaxTokens is how many tokens a board has at most.
const MaxTokens = 1000

// Tokens are those of all boards, in a ledger of their own, where each is an entry
// BOARD/ID. They are safe for concurrent use.
type Tokens struct {
	l    *ledger.Ledger
	stop context.CancelFunc
	done chan struct{}

	mu     sync.RWMutex // guards opened
	opened map[string]*Holder
}

// A Holder is who holds a token, as long as it is as it was.
type Holder struct {
	Grant
	node  *ledger.Node
	hash  Hash
	rec   *ledger.Record // by which it is known to be as it was
	valid context.Context
	end   context.CancelCauseFunc
}

// errNoToken is the one error for whatever is no token of a board.
var errNoToken = refuse.As(wire.ErrUnauthorized, "there is no such board, or the token is none of its tokens: is the link whole, and not revoked?")

// Open gives the tokens in a ledger, which must not be closed before they are.
func Open(l *ledger.Ledger) *Tokens {
	ctx, stop := context.WithCancel(context.Background())
	t := &Tokens{l: l, stop: stop, done: make(chan struct{}), opened: map[string]*Holder{}}
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

// Close ends what is done for the tokens; the ledger stays open.
func (t *Tokens) Close() {
	t.stop()
	<-t.done
}

// retire ends the holders of tokens that are not as they were, whoever changed them.
func (t *Tokens) retire() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for name, h := range t.opened {
		if n := t.l.Find(name); n == nil || n.Record() != h.rec {
			delete(t.opened, name)
			h.end(errNoToken)
		}
	}
}

// Find gives the holder of a token, which is what Bearer takes: ID.SECRET. The error is
// an ErrUnauthorized, and the same for whatever is wrong with it.
func (t *Tokens) Find(board, token string, now time.Time) (*Holder, error) {
	id, secret, ok := strings.Cut(token, ".")
	name := board + "/" + id
	if !ok || entry.CheckName(name) != nil || strings.Contains(id, "/") {
		return nil, errNoToken
	}
	n := t.l.Find(name)
	if n == nil {
		return nil, errNoToken
	}
	h, err := t.holder(n, name, id, n.Record())
	if err != nil || !h.hash.Of(Secret(secret)) || h.Over(now) {
		return nil, errNoToken
	}
	return h, nil
}

// Current has all tokens be known as they are now, whichever server changed them. The errors
// are those of ledger.Current.
func (t *Tokens) Current(ctx context.Context) error { return t.l.Current(ctx) }

// Still says whether a holder's token is as it was.
func (t *Tokens) Still(h *Holder, now time.Time) bool {
	return h.valid.Err() == nil && h.node.Record() == h.rec && !h.Over(now)
}

// holder gives the holder of a token as it stands in a record.
func (t *Tokens) holder(n *ledger.Node, name, id string, rec *ledger.Record) (*Holder, error) {
	t.mu.RLock()
	h := t.opened[name]
	t.mu.RUnlock()
	if h != nil && h.rec == rec {
		return h, nil
	}
	if !rec.Found() {
		return nil, errNoToken
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
		was.end(errNoToken)
	}
	h = &Holder{Grant: k.Grant, node: n, hash: k.hash, rec: rec}
	h.valid, h.end = context.WithCancelCause(context.Background())
	t.opened[name] = h
	if n := t.l.Find(name); n == nil || n.Record() != rec { // it was changed meanwhile, and nobody will tell
		delete(t.opened, name)
		h.end(errNoToken)
	}
	return h, nil
}

// While gives a context that also ends when the token does, by being revoked or by its
// end.
func (h *Holder) While(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, end := context.WithCancelCause(ctx)
	stop := context.AfterFunc(h.valid, func() { end(errNoToken) })
	var timer *time.Timer
	if !h.Until.IsZero() {
		timer = time.AfterFunc(time.Until(h.Until), func() { end(errNoToken) })
	}
	return ctx, func() {
		stop()
		if timer != nil {
			timer.Stop()
		}
		end(context.Canceled)
	}
}

// Ended gives the error of a context of While whose token ended; nil: it did not.
func Ended(ctx context.Context) error {
	if err := context.Cause(ctx); errors.Is(err, wire.ErrUnauthorized) {
		return err
	}
	return nil
}

// Make makes a token of a board for somebody who is covered by by: what it may is in
// want, which ends when by does where it does not say, and secret gives its secret for its
// ID. The errors are those of Grant.Check;
// ErrForbidden for one that may more than its maker; ErrUnauthorized where his own is
// none any more; rules.ErrQuota.
func (t *Tokens) Make(board string, by, want Grant, secret func(id string) Secret) (Grant, Secret, error) {
	now := time.Now()
	if want.Until.IsZero() {
		want.Until = by.Until
	}
	if err := want.Check(now); err != nil {
		return Grant{}, "", err
	}
	if err := by.covers(want); err != nil {
		return Grant{}, "", err
	}
	if !by.Until.IsZero() && want.Until.After(by.Until) {
		return Grant{}, "", refuse.As(wire.ErrForbidden, "a link can make only such as end with it: %s", by.Until.Format(time.RFC3339))
	}
	want.Made, want.By = now.UTC().Truncate(time.Millisecond), by.Label
	g, _, err := ledger.Do(t.l, entry.Author{By: by.ID}, func(tx *ledger.Tx) (Grant, error) {
		if err := by.stands(tx, board); err != nil {
			return Grant{}, err
		}
		if n := len(namesOf(tx, board)); n >= MaxTokens {
			return Grant{}, refuse.As(rules.ErrQuota, "the board has %d tokens, which is the most: revoke those that nobody uses", n)
		}
		g := want
		for g.ID = newID(); tx.Record(board + "/" + g.ID).Found(); {
			g.ID = newID()
		}
		v, err := kept{g, secret(g.ID).Hash()}.stored()
		if err != nil {
			return g, err
		}
		enc, err := ledger.Encode(v)
		if err == nil {
			tx.Put(board+"/"+g.ID, enc)
		}
		return g, err
	})
	if err != nil {
		return Grant{}, "", err
	}
	return g, secret(g.ID), nil
}

// covers refuses what by may not give to others, or take from them.
func (by Grant) covers(other Grant) error {
	if by.Covers(other) {
		return nil
	}
	within := ""
	if by.Prefix != "" {
		within = ", for names that begin with " + by.Prefix
	}
	return refuse.As(wire.ErrForbidden, "a link can make and revoke only such as may no more than it: %s%s", by.May, within)
}

// stands says whether a token is there still; an admin's is not among them.
func (by Grant) stands(tx *ledger.Tx, board string) error {
	if by.May < Admin && !tx.Record(board+"/"+by.ID).Found() {
		return errNoToken
	}
	return nil
}

// namesOf gives the names of a board's tokens.
func namesOf(tx *ledger.Tx, board string) []string {
	names := tx.Names()
	from, _ := slices.BinarySearch(names, board+"/")
	to := from
	for to < len(names) && strings.HasPrefix(names[to], board+"/") {
		to++
	}
	return names[from:to]
}

// List gives the tokens of a board that by may revoke, by their age, the oldest first.
func (t *Tokens) List(board string, by Grant) (list []Grant, err error) {
	snap := t.l.Snapshot()
	defer snap.Release()
	for e := range snap.Entries(board+"/", "") {
		k, err := readKept(strings.TrimPrefix(e.Name, board+"/"), e.Record.Value)
		if err != nil {
			return nil, err
		}
		if by.Covers(k.Grant) {
			list = append(list, k.Grant)
		}
	}
	slices.SortStableFunc(list, func(a, b Grant) int { return a.Made.Compare(b.Made) })
	return list, nil
}

// Revoke takes back the tokens of a board that those finds, all or none. The errors are
// value.ErrAbsent where there is none, and those of Make.
func (t *Tokens) Revoke(board string, by Grant, those func(Grant) bool) (n int, err error) {
	n, _, err = ledger.Do(t.l, entry.Author{By: by.ID}, func(tx *ledger.Tx) (n int, err error) {
		if err := by.stands(tx, board); err != nil {
			return 0, err
		}
		for _, name := range namesOf(tx, board) {
			k, err := readKept(strings.TrimPrefix(name, board+"/"), tx.Value(name))
			if err != nil {
				return 0, err
			}
			if !those(k.Grant) {
				continue
			}
			if err := by.covers(k.Grant); err != nil {
				return 0, err
			}
			tx.Drop(name)
			n++
		}
		if n == 0 {
			return 0, refuse.As(value.ErrAbsent, "the board has no such token")
		}
		return n, nil
	})
	return n, err
}

// Derived gives the tokens of a board whose secret is the one that secret gives for
// their ID.
func (t *Tokens) Derived(board string, secret func(id string) Secret, now time.Time) (Grant, Secret, bool) {
	snap := t.l.Snapshot()
	defer snap.Release()
	for e := range snap.Entries(board+"/", "") {
		id := strings.TrimPrefix(e.Name, board+"/")
		if k, err := readKept(id, e.Record.Value); err == nil && k.hash.Of(secret(id)) && !k.Over(now) {
			return k.Grant, secret(id), true
		}
	}
	return Grant{}, "", false
}

// Clear takes back all tokens of a board.
func (t *Tokens) Clear(board string) error {
	_, err := t.Revoke(board, Grant{May: Admin}, func(Grant) bool { return true })
	if errors.Is(err, value.ErrAbsent) {
		return nil
	}
	return err
}
