package board

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// page is an answer of the board's life "1" up to a version.
func page(whole bool, version int64, entries ...entry.Entry) *wire.Page {
	mark := func(v int64) string { return string('0'+byte(v)) + ".5a3f9c10" }
	p := &wire.Page{Board: "b", Version: version, Mark: mark(version), Whole: whole, Entries: entries}
	if !whole {
		p.Since = mark(version - 1)
	}
	return p
}

func intEntry(name string, version, n int64) entry.Entry {
	return entry.Entry{Name: name, Version: version, Value: value.Int(n)}
}

// remembered is what an earlier launch knew.
type remembered struct {
	entries map[string]entry.Entry
	refused error
	saved   []string
}

func (m *remembered) about(string) (int, error) { return 0, m.refused }
func (m *remembered) known(name string) (entry.Entry, bool) {
	e, found := m.entries[name]
	return e, found
}
func (m *remembered) knownUnder(string) (names []string) {
	for name := range m.entries {
		names = append(names, name)
	}
	return names
}
func (m *remembered) learn(names []string, _ map[string]entry.Entry) {
	m.saved = append(m.saved, names...)
}

func take(t *testing.T, v *view, p *wire.Page) taken {
	got, err := v.take(v.question().asking, p)
	require.NoError(t, err)
	return got
}

// A watcher gets each name that changed once, and only its own; without a watcher, names of a prefix
// are neither requested nor kept.
func TestViewWatchers(t *testing.T) {
	t.Parallel()
	asked := 0
	v := newView(func() { asked++ })
	assert.True(t, v.idle())
	names, beds := v.watch([]string{"tap"}, nil), v.watch(nil, []string{"beds/"})
	assert.Equal(t, 2, asked, "each asks for more")
	assert.Equal(t, question{v.question().asking, []string{"tap"}, []string{"beds/"}}, v.question())
	settled, _ := v.settled(beds)
	assert.False(t, settled)

	take(t, v, page(true, 1, intEntry("beds/a", 1, 1), intEntry("tap", 1, 1)))
	take(t, v, page(false, 2, intEntry("beds/a", 2, 2)))
	settled, _ = v.settled(beds)
	assert.True(t, settled)
	assert.Equal(t, []string{"tap"}, v.changes(names))
	assert.Equal(t, []string{"beds/a"}, v.changes(beds))
	assert.Empty(t, v.changes(beds))
	assert.Equal(t, []entry.Entry{intEntry("beds/a", 2, 2)}, v.under("beds/"))

	v.unwatch(beds)
	assert.Empty(t, v.under("beds/"))
	assert.Equal(t, []string{"tap"}, v.question().names)
	assert.Empty(t, v.question().prefixes)
	take(t, v, page(false, 3, intEntry("beds/a", 3, 3)))
	assert.Empty(t, v.under("beds/"), "an answer to the question before is not kept")
}

// What an earlier launch knew is shown as old until the server answers, and is gone if the server does
// not have it.
func TestViewMemory(t *testing.T) {
	t.Parallel()
	v := newView(func() {})
	m := &remembered{entries: map[string]entry.Entry{"tap": intEntry("tap", 7, 7), "beds/a": intEntry("beds/a", 7, 7)}}
	v.memory = m
	tap := v.bind("tap")
	v.keepPrefix("beds/")
	assert.True(t, tap.state.Load().old)
	assert.Len(t, v.under("beds/"), 1)

	take(t, v, page(true, 8, intEntry("tap", 8, 8)))
	assert.False(t, tap.state.Load().old)
	assert.Equal(t, int64(8), tap.state.Load().entry.Version)
	assert.Empty(t, v.under("beds/"))
	assert.Contains(t, m.saved, "tap")
}

// An attempt that fails is shown on every name, and ends with the next that succeeds; a refused write is
// shown until another value arrives.
func TestViewStates(t *testing.T) {
	t.Parallel()
	v := newView(func() {})
	a := v.bind("a")
	w := v.watch(nil, nil)
	v.attempted(ErrUnreachable)
	assert.ErrorIs(t, a.state.Load().away, ErrUnreachable)
	settled, err := v.settled(w)
	assert.False(t, settled)
	assert.ErrorIs(t, err, ErrUnreachable)
	assert.True(t, v.confirmed().IsZero())
	v.attempted(nil)
	assert.NoError(t, a.state.Load().away)
	settled, err = v.settled(w)
	assert.True(t, settled)
	assert.NoError(t, err)
	assert.False(t, v.confirmed().IsZero())

	take(t, v, page(true, 1, intEntry("a", 1, 1)))
	v.alterEach([]entry.Edit{{Name: "a"}, {Name: "a"}, {Name: "absent"}}, func(r *remote) { r.sending++; r.refused = ErrForbidden })
	assert.Equal(t, 1, a.state.Load().sending, "once for each name")
	take(t, v, page(false, 2, intEntry("a", 2, 2)))
	assert.NoError(t, a.state.Load().refused)
	assert.Nil(t, v.statesOf([]string{"absent"})["absent"])
}

// Everything can be used at once.
func TestViewConcurrently(t *testing.T) {
	t.Parallel()
	v := newView(func() {})
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for i := range int64(50) {
				w := v.watch([]string{"a"}, []string{"p/"})
				n := v.bind("b")
				_, _ = v.take(v.question().asking, page(true, i%9+1, intEntry("b", i+1, i), intEntry("p/x", i+1, i)))
				v.alter(n, func(r *remote) { r.queued++ })
				v.attempted(nil)
				v.changes(w)
				v.under("p/")
				v.unwatch(w)
			}
		})
	}
	all.Wait()
	assert.Equal(t, 200, v.bind("b").state.Load().queued, "no change is lost")
}
