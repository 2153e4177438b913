package etcd

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/test/hang"
)

// With one group more, new boards go where there is room, and none moves.
func TestGroups(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	write := func(s *Store, board, what string) {
		t.Helper()
		l, release, err := s.Board(t.Context(), board, true)
		require.NoError(t, err, board)
		defer release()
		_, err = rules.Commit(l, rules.Call{Edits: text("n", what)})
		require.NoError(t, err)
	}
	read := func(s *Store, board string) string {
		t.Helper()
		l, release, err := s.Board(t.Context(), board, false)
		require.NoError(t, err, board)
		defer release()
		require.NoError(t, l.Current(t.Context()))
		text, _ := l.Node("n").Record().Value.AsText()
		return text
	}
	alone := open(t, prefix, Options{})
	for i := range 3 {
		write(alone, fmt.Sprint("old-", i), strings.Repeat("x", 500_000))
	}
	both := Options{Groups: []Group{{Name: "east", Endpoints: secondNode(t)}}}
	a, b := open(t, prefix, both), open(t, prefix, both)
	require.Eventually(t, func() bool { return a.roomiest(t.Context()) == a.groups[1] }, hang.Patience, 10*time.Millisecond, "a node says now and then what it has")
	for i := range 3 {
		write([]*Store{a, b}[i%2], fmt.Sprint("new-", i), "new")
	}
	in := func(g *group) []string {
		names, err := g.boards(t.Context())
		require.NoError(t, err)
		return names
	}
	assert.Equal(t, []string{"old-0", "old-1", "old-2"}, in(a.groups[0]))
	assert.Equal(t, []string{"new-0", "new-1", "new-2"}, in(a.groups[1]))
	for _, s := range []*Store{a, b} {
		for i := range 3 {
			assert.Equal(t, "new", read(s, fmt.Sprint("new-", i)))
			assert.Len(t, read(s, fmt.Sprint("old-", i)), 500_000)
		}
		all, err := s.Boards(t.Context(), "new-1", 3)
		require.NoError(t, err)
		assert.Equal(t, "[new-2 old-0 old-1]", fmt.Sprint(namesOf(all)))
	}
	l, release, err := b.Board(t.Context(), "new-0", false)
	require.NoError(t, err)
	defer release()
	w := l.Watch(nil, nil)
	defer w.Close()
	write(a, "new-0", "newer")
	require.True(t, w.Wait(t.Context(), nil), "every group has a feed")
	_, _, err = alone.Board(t.Context(), "new-0", true)
	assert.ErrorIs(t, err, ErrNoGroup, "it is not made a second time")
	assert.ErrorContains(t, err, `"east"`)

	var file bytes.Buffer
	_, err = a.Backup(t.Context(), &file)
	require.NoError(t, err)
	require.NoError(t, a.Remove(t.Context(), "new-1", ""))
	assert.Eventually(t, func() bool { _, _, err := b.Board(t.Context(), "new-1", false); return err == store.ErrNoBoard }, hang.Patience, time.Millisecond)
	bad := 0
	require.NoError(t, a.Check(t.Context(), func(c BoardCheck) {
		if c.Err != nil {
			bad++
		}
	}))
	assert.Zero(t, bad)

	other := both
	other.Endpoints, other.Prefix = endpoints, newPrefix()
	_, err = Restore(t.Context(), Options{Endpoints: endpoints, Prefix: newPrefix()}, bytes.NewReader(file.Bytes()), false)
	assert.ErrorIs(t, err, ErrNoGroup)
	_, err = Restore(t.Context(), other, bytes.NewReader(file.Bytes()), false)
	require.NoError(t, err)
	c := open(t, other.Prefix, both)
	assert.Equal(t, "newer", read(c, "new-0"))
	assert.Equal(t, "new", read(c, "new-1"))
	assert.Len(t, read(c, "old-0"), 500_000)
}

func namesOf(all []store.Info) (names []string) {
	for _, one := range all {
		names = append(names, one.Board)
	}
	return names
}
