package board

import (
	"context"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

// A Finding is what the board noticed about a declared key.
type Finding struct {
	// Code is one of near (the name is similar to another), kind, default and rule (it is declared
	// differently), secret (the name sounds like a secret), and stored (the stored value breaks the rules).
	Code     string
	Name     string // of the key
	Sentence string
}

// MarshalJSON returns the finding as the server sends it.
func (f Finding) MarshalJSON() ([]byte, error) { return entry.Finding(f).MarshalJSON() }

// Keys requests the declared keys, sorted by name, and whether the list is closed, so that no other
// name can be written.
func (b *Board) Keys(ctx context.Context) (keys []pantry.DeclaredKey, closed bool, err error) {
	k, err := b.keys(ctx, request{op: "read the keys of", method: http.MethodGet, path: "/keys"})
	for _, d := range k.Keys {
		keys = append(keys, pantry.DeclaredKey(d.Key))
	}
	return keys, k.Closed, err
}

// DeclareKeys declares the app's keys on the board. A new key is added, unless the stored value
// breaks its rules; a key that is declared differently is not changed. It returns findings.
func (b *Board) DeclareKeys(ctx context.Context, keys ...pantry.AnyKey) (findings []Finding, err error) {
	var d rules.Declaration
	for _, k := range keys {
		for _, one := range k.Declared() {
			d.Keys = append(d.Keys, entry.Declared{Key: entry.Key(one)})
		}
	}
	if len(d.Keys) == 0 {
		return nil, nil
	}
	k, err := b.declare(ctx, d)
	for _, f := range k.Findings {
		findings = append(findings, Finding(f))
	}
	return findings, err
}

// CloseKeys closes the list of declared keys, and returns the board's version. A write to another name is
// then ErrUndeclared.
func (b *Board) CloseKeys(ctx context.Context) (version int64, err error) {
	return b.closeKeys(ctx, true)
}

// OpenKeys opens the list of declared keys again, and returns the board's version.
func (b *Board) OpenKeys(ctx context.Context) (version int64, err error) {
	return b.closeKeys(ctx, false)
}

func (b *Board) closeKeys(ctx context.Context, closed bool) (version int64, err error) {
	k, err := b.declare(ctx, rules.Declaration{Closed: &closed})
	return k.Version, err
}

// WithdrawKey withdraws a declaration; the stored values stay. name is the key's name, or the name
// and a slash for a family. The error is pantry.ErrAbsent if no such key is declared.
func (b *Board) WithdrawKey(ctx context.Context, name string) error {
	plain, family := strings.CutSuffix(name, "/")
	if err := pantry.CheckName(plain); err != nil {
		return b.conn.fail("withdraw", name, err)
	}
	rq := request{op: "withdraw", method: http.MethodDelete, path: namePath("/keys/", plain)}
	if family {
		rq.path += "?family=true"
	}
	_, err := b.conn.send(ctx, rq)
	return b.conn.fail("withdraw", name, err)
}

func (b *Board) declare(ctx context.Context, d rules.Declaration) (*wire.Keys, error) {
	return b.keys(ctx, request{
		op: "declare the keys of", method: http.MethodPost, path: "/keys", body: wire.AppendDeclaration(nil, d),
		header: asJSON(),
	})
}

func (b *Board) keys(ctx context.Context, rq request) (*wire.Keys, error) {
	got, err := b.conn.send(ctx, rq)
	if err != nil {
		return &wire.Keys{}, b.conn.fail(rq.op, "", err)
	}
	k, err := wire.ReadKeys(got.body)
	if err == nil {
		err = b.conn.ours(k.Board)
	}
	if err != nil {
		return &wire.Keys{}, b.conn.fail(rq.op, "", unexpected(err))
	}
	return k, nil
}
