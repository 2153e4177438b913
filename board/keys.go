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

// A Finding is what the board noticed about a declared key: a Code for a program, the Name of the
// key, and a Sentence. The codes are near (the name is similar to another), kind, default and rule
// (it is declared differently), secret (the name sounds like a secret), and stored (the stored
// value breaks the rules).
type Finding = entry.Finding

// A DeclaredKey is a key that an app declared. The board stores it with that app's name in By.
type DeclaredKey = entry.Declared

// Keys requests the declared keys, sorted by name, and whether the list is closed, so that no other
// name can be written.
func (b *Board) Keys(ctx context.Context) (keys []DeclaredKey, closed bool, err error) {
	k, err := b.keys(ctx, request{op: "read the keys of", method: http.MethodGet, path: "/keys"})
	return k.Keys, k.Closed, err
}

// DeclareKeys declares the app's keys on the board. A new key is added, unless the stored value
// breaks its rules; a key that is declared differently is not changed. It returns findings.
func (b *Board) DeclareKeys(ctx context.Context, keys ...pantry.AnyKey) ([]Finding, error) {
	var d rules.Declaration
	for _, k := range keys {
		d.Keys = append(d.Keys, k.Declared()...)
	}
	if len(d.Keys) == 0 {
		return nil, nil
	}
	k, err := b.declare(ctx, d)
	return k.Findings, err
}

// CloseKeys closes the list of declared keys, or opens it, and returns the board's version.
func (b *Board) CloseKeys(ctx context.Context, closed bool) (version int64, err error) {
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
