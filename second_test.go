package pantry_test

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/seal"
	"github.com/small-pantry/pantry/value"
)

// What holds for one way to do something holds for the others too.

// Seed leaves alone what is stored, also what it can't open.
func TestSeedLeavesWhatItCantOpen(t *testing.T) {
	t.Parallel()
	one, err := seal.AESGCM([]byte("0123456789abcdef"))
	require.NoError(t, err)
	other, err := seal.AESGCM([]byte("fedcba9876543210"))
	require.NoError(t, err)
	dir, key := t.TempDir(), pantry.Text("gate/code", "").Sealed()
	quiet := pantry.OnProblem(func(pantry.Problem) {})
	ns, err := pantry.Open(dir, "gatehouse", pantry.Seal(one))
	require.NoError(t, err)
	require.NoError(t, key.In(ns).Set("4711"))
	before, _ := ns.Entry("gate/code")
	require.NoError(t, ns.Close())
	for range 2 {
		ns, err = pantry.Open(dir, "gatehouse", pantry.Seal(other), quiet)
		require.NoError(t, err)
		require.NoError(t, key.In(ns).Seed("0000"))
		require.NoError(t, ns.Commit(func(b *pantry.Batch) error { return key.In(b).Seed("0000") }))
		after, _ := ns.Entry("gate/code")
		assert.Equal(t, before.Version, after.Version)
		require.NoError(t, ns.Close())
	}
	ns, err = pantry.Open(dir, "gatehouse", pantry.Seal(one))
	require.NoError(t, err)
	assert.Equal(t, "4711", key.In(ns).Get())
	require.NoError(t, ns.Close())
}

// Add takes a free number, also if another writer took the next one.
func TestAddTakesAFreeNumber(t *testing.T) {
	t.Parallel()
	type planting struct{ Crop string }
	ns := open(t, t.TempDir())
	defer ns.Close()
	in := pantry.RecordsOf[planting]("plantings").In(ns)
	id, err := in.Add(planting{"beans"})
	require.NoError(t, err)
	assert.Equal(t, "1", id)
	for _, taken := range []string{"2", "3"} { // by name, past the collection
		v, err := pantry.Object("x", planting{}).Encode(planting{"theirs " + taken})
		require.NoError(t, err)
		require.NoError(t, ns.Put("plantings/"+taken, v))
	}
	id, err = in.Add(planting{"marrow"})
	require.NoError(t, err)
	assert.Equal(t, "4", id)
	two, _, _ := in.Lookup("2")
	assert.Equal(t, "theirs 2", two.Crop)
}

// A program that does not know the steps which a file has had doesn't open it,
// unless it says that it may.
func TestSchemaOfAnotherProgram(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	require.NoError(t, ns.Put("hour", value.Text("7")))
	require.NoError(t, ns.Close())
	step := func(b *pantry.Batch) error {
		return errors.Join(b.Drop("hour"), b.Put("hour", value.Int(7)))
	}
	for range 2 { // a step that changes a kind is not scolded for it
		ns, err := pantry.Open(dir, "plotbook", pantry.Schema(step), pantry.Declare(pantry.Int("hour", 18)), pantry.OnProblem(func(p pantry.Problem) { t.Error(p) }))
		require.NoError(t, err)
		assert.Equal(t, 7, pantry.Int("hour", 18).In(ns).Get())
		require.NoError(t, ns.Close())
	}
	for _, opts := range [][]pantry.Option{nil, {pantry.ReadOnly()}} {
		_, err := pantry.Open(dir, "plotbook", opts...)
		assert.ErrorIs(t, err, pantry.ErrNewer)
	}
	ns, err := pantry.Open(dir, "plotbook", pantry.AnySchema())
	require.NoError(t, err)
	require.NoError(t, ns.Close())
	// Two programs at once, and one knows more steps. The second, with fewer, is refused and takes none of
	// its steps.
	dir = t.TempDir()
	require.NoError(t, open(t, dir).Close())
	ns = open(t, dir)
	require.NoError(t, ns.Put("a", value.Int(1)))
	require.NoError(t, ns.Close())
	var all sync.WaitGroup
	add := func(b *pantry.Batch) error {
		e, _ := b.Entry("a")
		n, _ := e.Value.AsInt()
		return b.Put("a", value.Int(n+1))
	}
	for steps := 1; steps <= 3; steps++ {
		all.Go(func() {
			ns, err := pantry.Open(dir, "plotbook", pantry.Schema([]func(*pantry.Batch) error{add, add, add}[:steps]...))
			if err == nil {
				err = ns.Close()
			}
			if steps == 3 {
				assert.NoError(t, err)
			} else if err != nil {
				assert.ErrorIs(t, err, pantry.ErrNewer)
			}
		})
	}
	all.Wait()
	ns, err = pantry.Open(dir, "plotbook", pantry.AnySchema())
	require.NoError(t, err)
	e, _ := ns.Entry("a")
	assert.True(t, value.Equal(value.Int(4), e.Value), "each step was taken once: %v", e.Value)
	require.NoError(t, ns.Close())
}

// Names that are exchanged in one commit take their declarations along.
func TestRenamesInACircle(t *testing.T) {
	t.Parallel()
	for range 10 { // for any order of a map
		dir := t.TempDir()
		ns, err := pantry.Open(dir, "plotbook", pantry.Declare(pantry.Int("a", 1), pantry.Text("b", "x"), pantry.Bool("c", true)))
		require.NoError(t, err)
		require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
			return errors.Join(b.Put("a", value.Int(5)), b.Put("b", value.Text("five")), b.Put("c", value.Bool(false)))
		}))
		require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
			return errors.Join(b.Rename("a", "tmp"), b.Rename("b", "a"), b.Rename("c", "b"), b.Rename("tmp", "c"))
		}))
		var told []string
		for _, k := range ns.Declared() {
			e, _ := ns.Entry(k.Name)
			told = append(told, fmt.Sprint(k.Name, " ", k.Kind, " ", e.Value.Kind()))
		}
		assert.Equal(t, []string{"a text text", "b bool bool", "c int int"}, told)
		require.NoError(t, ns.Close())
	}
}

// A second Open in one process has problems of its own, and one that only reads
// sees what the other writes.
func TestSecondOpenInOneProcess(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	heard := map[string]int{}
	var mu sync.Mutex
	listen := func(who string) pantry.Option {
		return pantry.OnProblem(func(p pantry.Problem) {
			mu.Lock()
			defer mu.Unlock()
			if strings.Contains(p.Err.Error(), "removed while it was open") {
				heard[who]++
			}
		})
	}
	one, err := pantry.Open(dir, "plotbook", listen("one"))
	require.NoError(t, err)
	other, err := pantry.Open(dir, "plotbook", listen("other"))
	require.NoError(t, err)
	reader, err := pantry.Open(dir, "plotbook", listen("reader"), pantry.ReadOnly())
	require.NoError(t, err)
	hour := pantry.Int("reminder-hour", 18)
	require.NoError(t, hour.In(one).Set(7))
	assert.Equal(t, []int{7, 7}, []int{hour.In(other).Get(), hour.In(reader).Get()}, "without a look at the file")
	for _, err := range []error{hour.In(reader).Set(8), reader.Put("x", value.Int(1)), reader.Reset(), reader.Commit(func(b *pantry.Batch) error { return b.Drop("reminder-hour") })} {
		assert.ErrorIs(t, err, pantry.ErrReadOnly)
	}
	require.NoError(t, os.Remove(one.Path()))
	require.NoError(t, hour.In(other).Set(8))
	assert.Equal(t, map[string]int{"one": 1, "other": 1, "reader": 1}, heard)
	require.NoError(t, one.Close())
	require.NoError(t, os.Remove(other.Path()))
	require.NoError(t, hour.In(other).Set(9))
	assert.Equal(t, map[string]int{"one": 1, "other": 2, "reader": 2}, heard, "who has closed hears no more")
	require.NoError(t, errors.Join(other.Close(), reader.Close()))
}

// What OnProblem does is its own business: it may open another namespace.
func TestOnProblemMayOpen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ns := open(t, dir)
	require.NoError(t, ns.Put("reminder-hour", value.Text("late")))
	require.NoError(t, ns.Close())
	f, err := os.OpenFile(ns.Path(), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("torn")
	require.NoError(t, errors.Join(err, f.Close()))
	opened := 0
	ns, err = pantry.Open(dir, "plotbook", pantry.Declare(pantry.Int("reminder-hour", 18)), pantry.OnProblem(func(p pantry.Problem) {
		log, err := pantry.Open(dir, "problems")
		if assert.NoError(t, err) {
			assert.NoError(t, log.Put("newest", value.Text(p.Err.Error())))
			assert.NoError(t, log.Close())
			opened++
		}
	}))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, opened, 2)
	require.NoError(t, ns.Close())
}

// A type with a text of its own is not shared with the store, what holds a
// nil in any comes back as nil, and what can't be stored whole is refused.
func TestTypesOfTheirOwn(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	defer ns.Close()
	ips := pantry.List("addresses", net.IPv4(10, 0, 0, 1))
	for range 2 {
		got := ips.In(ns).Get()
		got[0][len(got[0])-1] = 99
		assert.Equal(t, "10.0.0.1", ips.In(ns).Get()[0].String())
		require.NoError(t, ips.In(ns).Set(ips.In(ns).Get()))
	}
	way := pantry.Object("way", struct{ Beds path }{path{"C4", "B2"}})
	got := way.In(ns).Get()
	got.Beds[0] = "changed"
	assert.Equal(t, path{"C4", "B2"}, way.In(ns).Get().Beds)

	type mixed struct{ Any any }
	key := pantry.Object("mixed", mixed{Any: "a default"})
	require.NoError(t, key.In(ns).Set(mixed{}))
	assert.Nil(t, key.In(ns).Get().Any, "nil was stored, not the default")

	type stamped struct {
		time.Time
		Note string
	}
	assert.PanicsWithValue(t, "pantry: the struct pantry_test.stamped would be stored only as the text of its embedded Time, whose MarshalText it has; give the field a name, or write a MarshalText method",
		func() { pantry.Object("x", stamped{}) })
	pantry.List[own]("x") // whose MarshalText is its own
	type alone struct{ time.Time }
	pantry.List[alone]("x") // has no other field that could be lost
}

// path is a list with a text of its own.
type path []string

func (p path) MarshalText() ([]byte, error)  { return []byte(strings.Join(p, " ")), nil }
func (p *path) UnmarshalText(b []byte) error { *p = strings.Fields(string(b)); return nil }

type own struct {
	time.Time
	Note string
}

func (o own) MarshalText() ([]byte, error)  { return []byte(o.Note), nil }
func (o *own) UnmarshalText(b []byte) error { o.Note = string(b); return nil }

// What holds itself is refused, not followed for ever.
func TestCyclicValue(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	defer ns.Close()
	type node struct {
		Name string
		Next *node
	}
	ring := node{Name: "a"}
	ring.Next = &node{"b", &ring}
	assert.ErrorIs(t, pantry.Object("node", node{}).In(ns).Set(ring), pantry.ErrInvalid)
	list := []any{1}
	list[0] = list
	assert.ErrorIs(t, pantry.List[any]("list").In(ns).Set(list), pantry.ErrInvalid)
	m := map[string]any{}
	m["m"] = m
	assert.ErrorIs(t, pantry.Map[any]("map", nil).In(ns).Set(m), pantry.ErrInvalid)
	deep := node{Name: "a"}
	for range 60 {
		next := deep
		deep = node{"a", &next}
	}
	assert.NoError(t, pantry.Object("node", node{}).In(ns).Set(deep), "what is as deep as may be is stored")
}

// A function that panics leaves no snapshot behind, which would keep all that
// is written from then on.
func TestPanicInCommit(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	defer ns.Close()
	for range 3 {
		assert.PanicsWithValue(t, "mine", func() { _ = ns.Commit(func(*pantry.Batch) error { panic("mine") }) })
		require.NoError(t, ns.Put("n", value.Int(1)))
	}
}
