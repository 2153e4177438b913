package access_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

func TestRights(t *testing.T) {
	t.Parallel()
	for r := access.Read; r <= access.Own; r++ {
		back, err := access.ParseRight(r.String())
		require.NoError(t, err)
		assert.Equal(t, r, back)
		assert.Contains(t, r.Says(), "may")
	}
	for _, bad := range []string{"", "admin", "nothing", "Read", "read "} {
		_, err := access.ParseRight(bad)
		assert.ErrorIs(t, err, value.ErrInvalid, bad)
	}
	own, tank := access.Grant{May: access.Own}, access.Grant{May: access.Own, Prefix: "tank/"}
	assert.True(t, own.Covers(tank) && own.Covers(own) && tank.Covers(access.Grant{May: access.Add, Prefix: "tank/x/"}))
	assert.False(t, tank.Covers(own) || tank.Covers(access.Grant{May: access.Read, Prefix: "tan"}) || access.Grant{May: access.Write}.Covers(own))
	assert.ErrorIs(t, tank.Name("tank"), wire.ErrForbidden)
	assert.NoError(t, tank.Name("tank/litres"))
	assert.Error(t, access.Grant{}.Needs(access.Read), "the zero Grant may nothing")
}

func TestSecrets(t *testing.T) {
	t.Parallel()
	a, b := access.NewSecret(), access.NewSecret()
	assert.NotEqual(t, a, b)
	assert.Regexp(t, `^[a-z2-7]{26}$`, string(a))
	assert.True(t, a.Hash().Of(a))
	assert.False(t, a.Hash().Of(b) || a.Hash().Of("") || access.Hash("").Of(a))
	assert.Equal(t, a.From("b/1"), a.From("b/1"))
	assert.NotEqual(t, a.From("b/1"), a.From("b/2"))
	assert.NotEqual(t, a.From("b/1"), b.From("b/1"))
}

// A token belongs to one life of a board: a later board of the name does not accept it, and drops it when it
// gets tokens of its own. A board whose life a repair could not read accepts all of its name.
func TestTokensBelongToALife(t *testing.T) {
	t.Parallel()
	l, err := ledger.Open("/data", "tokens", ledger.Options{Disk: journal.Disk(simdisk.New())})
	require.NoError(t, err)
	defer l.Close()
	tokens := access.Open(l, nil)
	defer tokens.Close()
	admin := access.Grant{May: access.Admin, Label: access.AdminName}
	secret := access.NewSecret()
	mint := func(life string, once access.Once) access.Grant {
		g, _, err := tokens.Make(access.Board{Name: "b", Life: life}, admin, access.Grant{May: access.Own, Label: life}, once, func(string) access.Secret { return secret })
		require.NoError(t, err)
		return g
	}
	accepts := func(g access.Grant, life string) bool {
		h, err := tokens.Find("b", g.ID+"."+string(secret), time.Now())
		if err != nil {
			return false
		}
		err = h.For(access.Board{Name: "b", Life: life})
		assert.True(t, err == nil || errors.Is(err, wire.ErrUnauthorized))
		return err == nil
	}
	labels := func(life string) (all []string) {
		list, err := tokens.List(access.Board{Name: "b", Life: life}, admin)
		require.NoError(t, err)
		for _, g := range list {
			all = append(all, g.Label)
		}
		return all
	}
	once := access.Once{Request: "r", Body: "b"}
	one := mint("one", once)
	assert.True(t, accepts(one, "one"))
	assert.False(t, accepts(one, "two"))
	assert.True(t, accepts(one, journal.AnyLife))
	assert.Empty(t, labels("two"))
	_, err = tokens.Revoke(access.Board{Name: "b", Life: "two"}, admin, func(access.Grant) bool { return true })
	assert.ErrorIs(t, err, value.ErrAbsent)
	require.NoError(t, tokens.Drop(access.Board{Name: "b", Life: "two"}), "which has none")
	assert.True(t, accepts(one, "one"))
	_, _, found := tokens.Derived(access.Board{Name: "b", Life: "two"}, func(string) access.Secret { return secret }, time.Now())
	assert.False(t, found)

	two := mint("two", once) // the same request for another board is not its repeat
	assert.Equal(t, []string{"two"}, labels("two"))
	assert.False(t, accepts(one, "one"), "it is dropped")
	require.NoError(t, tokens.Drop(access.Board{Name: "b", Life: "two"}))
	assert.False(t, accepts(two, "two"))
}

// Tokens are stored in a ledger. A change of it by anybody, such as removal, applies to their holders.
func TestTokensFollowTheirLedger(t *testing.T) {
	t.Parallel()
	disk := simdisk.New()
	open := func() *ledger.Ledger {
		l, err := ledger.Open("/data", "tokens", ledger.Options{Disk: journal.Disk(disk)})
		require.NoError(t, err)
		return l
	}
	l := open()
	defer l.Close()
	tokens := access.Open(l, nil)
	defer tokens.Close()
	admin := access.Grant{May: access.Admin, Label: access.AdminName}
	secret := access.NewSecret()
	b := access.Board{Name: "b", Life: "one"}
	g, got, err := tokens.Make(b, admin, access.Grant{May: access.Write, Label: "phone"}, access.Once{}, func(string) access.Secret { return secret })
	require.NoError(t, err)
	assert.Equal(t, secret, got)
	now := time.Now()
	h, err := tokens.Find("b", g.ID+"."+string(secret), now)
	require.NoError(t, err)
	assert.Equal(t, []any{access.Write, "phone", "admin"}, []any{h.May, h.Label, h.By})
	for _, bad := range []string{"", g.ID, g.ID + ".", "." + string(secret), g.ID + "." + string(access.NewSecret()), "x." + string(secret)} {
		_, err := tokens.Find("b", bad, now)
		assert.ErrorIs(t, err, wire.ErrUnauthorized, bad)
	}
	_, err = tokens.Find("c", g.ID+"."+string(secret), now)
	assert.ErrorIs(t, err, wire.ErrUnauthorized, "of another board")
	assert.True(t, tokens.Still(h, now))

	ctx, done := h.While(t.Context())
	defer done()
	n, err := tokens.Revoke(b, admin, func(one access.Grant) bool { return one.ID == g.ID })
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	<-ctx.Done()
	assert.ErrorIs(t, access.Ended(ctx), wire.ErrUnauthorized)
	assert.False(t, tokens.Still(h, now))
	_, err = tokens.Find("b", g.ID+"."+string(secret), now)
	assert.ErrorIs(t, err, wire.ErrUnauthorized)

	// A revoked token makes no more tokens.
	_, _, err = tokens.Make(b, h.Grant, access.Grant{May: access.Read}, access.Once{}, func(string) access.Secret { return access.NewSecret() })
	assert.ErrorIs(t, err, wire.ErrUnauthorized)
	plain, cancel := h.While(t.Context())
	cancel()
	assert.Error(t, plain.Err())
}
