package access

import (
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A Once identifies a request for a token, so that its repeat makes no second one. The zero Once
// identifies nothing.
type Once struct {
	Request string // hash of the caller and the idempotency key
	Body    string // hash of the content
}

// repeatable is how long a request for a token can be repeated.
const repeatable = 10 * time.Minute

// Make creates a token of a board, on behalf of by. want says what the token allows. If want has no
// end, the token ends with by. secret returns the token's secret for its ID. The secret is not
// stored, so a repeat of the request revokes the first token and makes another. Tokens of earlier
// boards of the name are dropped. The errors are those of Grant.Check; ErrForbidden for a token that
// allows more than by; ErrUnauthorized if by's own token is no longer valid; rules.ErrQuota;
// rules.ErrKeyReused for another request under the same key; and rules.ErrTooLate for a repeat after
// 10 minutes, or after the first token was used.
func (t *Tokens) Make(board Board, by, want Grant, once Once, secret func(id string) Secret) (Grant, Secret, error) {
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
		return Grant{}, "", refuse.As(wire.ErrForbidden, "a link can create only links that end before it: %s", by.Until.Format(time.RFC3339))
	}
	want.Made, want.By = now.UTC().Truncate(time.Millisecond), by.Label
	g, _, err := ledger.Do(t.l, entry.Author{By: by.ID}, func(tx *ledger.Tx) (Grant, error) {
		if err := t.exists(by, tx, board); err != nil {
			return Grant{}, err
		}
		n, err := t.dropReplaced(tx, board, once, now)
		if err != nil {
			return Grant{}, err
		}
		if n >= MaxTokens {
			return Grant{}, refuse.As(rules.ErrQuota, "the board has %d tokens, which is the limit: revoke tokens that are not used", n)
		}
		g := want
		for g.ID = newID(); tx.Record(board.Name + "/" + g.ID).Found(); {
			g.ID = newID()
		}
		v, err := kept{g, board.Life, secret(g.ID).Hash(), once.Request, once.Body}.stored()
		if err != nil {
			return g, err
		}
		enc, err := ledger.Encode(v)
		if err == nil {
			tx.Put(board.Name+"/"+g.ID, enc)
		}
		return g, err
	})
	if err != nil {
		return Grant{}, "", err
	}
	return g, secret(g.ID), nil
}

// dropReplaced drops the tokens of a board's name that are void, of an earlier board, or of the same
// request. It returns how many are left.
func (t *Tokens) dropReplaced(tx *ledger.Tx, board Board, once Once, now time.Time) (left int, err error) {
	for _, name := range tx.NamesUnder(board.Name + "/") {
		v := tx.Value(name) // a board can have a thousand, and few are of this request
		life, ok := textOf(v, "life")
		if !ok {
			return 0, refuse.As(value.ErrInvalid, "the token %s can't be read: it has no life", scan.Quote(name))
		}
		if !board.accepts(life) || t.isVoid(name) {
			tx.Drop(name)
			continue
		}
		if request, ok := textOf(v, "request"); !ok || request != once.Request {
			left++
			continue
		}
		if err := t.mayRepeat(name, v, once, now); err != nil {
			return 0, err
		}
		tx.Drop(name)
	}
	return left, nil
}

// mayRepeat returns an error if the request that made a token can't be repeated.
func (t *Tokens) mayRepeat(name string, v value.Value, once Once, now time.Time) error {
	_, id, _ := strings.Cut(name, "/")
	k, err := readKept(id, v)
	switch {
	case err != nil:
		return err
	case k.body != once.Body:
		return refuse.As(rules.ErrKeyReused, "another request for a link used this Idempotency-Key; each new request needs a key of its own")
	case k.Made.Before(t.since), now.Sub(k.Made) > repeatable, t.wasUsed(name):
		return refuse.As(rules.ErrTooLate, "the link %s of the first request may be in use; make another one under a new key, and revoke the first if it is not in use", k.ID)
	}
	return nil
}

// textOf returns a text in a map, if there is one of that name.
func textOf(v value.Value, name string) (s string, ok bool) {
	member, _ := v.Member(name)
	return member.AsText()
}

// wasUsed reports whether somebody has shown a token to this server.
func (t *Tokens) wasUsed(name string) bool {
	t.mu.RLock()
	defer t.mu.RUnlock()
	h := t.opened[name]
	return h != nil && h.used.Load()
}

// covers returns an error if by may not create or revoke a token.
func (by Grant) covers(other Grant) error {
	if by.Covers(other) {
		return nil
	}
	within := ""
	if by.Prefix != "" {
		within = ", for names that begin with " + by.Prefix
	}
	return refuse.As(wire.ErrForbidden, "a link can create and revoke only links with at most its own rights: %s%s", by.May, within)
}

// exists returns an error unless the token exists. An admin's token is not among them.
func (t *Tokens) exists(by Grant, tx *ledger.Tx, board Board) error {
	if name := board.Name + "/" + by.ID; by.May < Admin && (!tx.Record(name).Found() || t.isVoid(name)) {
		return ErrNoToken
	}
	return nil
}

// keptOf returns the tokens of all boards that had a name.
func keptOf(tx *ledger.Tx, board string) (all []kept, err error) {
	for _, name := range tx.NamesUnder(board + "/") {
		k, err := readKept(strings.TrimPrefix(name, board+"/"), tx.Value(name))
		if err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, nil
}
