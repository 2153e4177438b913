package pantry_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Records by any order, one by one, and all at once away.
func TestRecordsGetSortedClear(t *testing.T) {
	t.Parallel()
	type bed struct{ Crop string }
	beds := pantry.RecordsOf[bed]("plantings")
	dir := t.TempDir()
	ns := open(t, dir, quiet)
	r := beds.In(ns)
	for _, crop := range []string{"peas", "beans", "garlic", "beans"} {
		_, err := r.Add(bed{crop})
		require.NoError(t, err)
	}
	require.NoError(t, r.Put("own", bed{"aloe"}))
	assert.Equal(t, []any{bed{"garlic"}, bed{}, bed{}}, []any{r.Get("3"), r.Get("99"), r.Get("a/b")})
	var ids []string
	for id := range r.Sorted(func(a, b bed) int { return strings.Compare(a.Crop, b.Crop) }) {
		ids = append(ids, id)
	}
	assert.Equal(t, []string{"own", "2", "4", "3", "1"}, ids)
	for range r.Sorted(func(a, b bed) int { return 0 }) {
		break
	}
	require.NoError(t, ns.Put("plantings/2", value.Int(5)))
	assert.Equal(t, bed{}, r.Get("2"))
	version := ns.Version()
	require.NoError(t, r.Clear())
	assert.Equal(t, []any{0, version + 1}, []any{r.Len(), ns.Version()}, "one commit, unreadable ones too")
	id, err := r.Add(bed{"peas"})
	require.NoError(t, err)
	assert.Equal(t, "5", id, "no number is given again")
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		if _, err := beds.In(b).Add(bed{"x"}); err != nil {
			return err
		}
		return beds.In(b).Clear()
	}))
	assert.Zero(t, r.Len(), "in a batch with what it added")
	require.NoError(t, ns.Close())
}

// Records with ids of the app's own keep the order of adding: over a change, the next launch, another
// program and a compacted file.
func TestRecordsInOrderOfAdding(t *testing.T) {
	t.Parallel()
	type bed struct{ N int }
	beds := pantry.RecordsOf[bed]("beds")
	dir := t.TempDir()
	ns := open(t, dir, quiet)
	r := beds.In(ns)
	ids := func(r pantry.Records[bed]) (out string) {
		for id := range r.All() {
			out += id + " "
		}
		return out
	}
	for i, id := range []string{"wall", "C4", "herbs", "2", "aloe"} {
		require.NoError(t, r.Put(id, bed{i}))
	}
	require.NoError(t, r.Put("C4", bed{7}))
	_, err := r.Update("wall", func(x bed) (bed, error) { x.N++; return x, nil })
	require.NoError(t, err)
	require.NoError(t, r.Drop("herbs"))
	assert.Equal(t, "2 wall C4 aloe ", ids(r), "numbers first, and a change moves nothing")
	require.NoError(t, r.Put("herbs", bed{9}))
	assert.Equal(t, "2 wall C4 aloe herbs ", ids(r), "what comes back is new")
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		in := beds.In(b)
		require.NoError(t, in.Put("zinnias", bed{1}))
		require.NoError(t, in.Put("roses", bed{1}))
		require.NoError(t, in.Put("wall", bed{1}))
		assert.Equal(t, "2 wall C4 aloe herbs roses zinnias ", ids(in), "in the commit that adds them by id")
		return nil
	}))
	require.NoError(t, r.Put("late", bed{1}))
	require.NoError(t, r.Put("last", bed{1}))
	for range 40 { // so that the lines which added them are kept no more
		for _, id := range []string{"last", "late"} {
			_, err := r.Update(id, func(x bed) (bed, error) { x.N++; return x, nil })
			require.NoError(t, err)
		}
	}
	busy := pantry.Int("busy", 0).In(ns)
	for range 6000 { // enough for the file to be rewritten
		_, err := pantry.Add(busy, 1)
		require.NoError(t, err)
	}
	require.NoError(t, r.Put("aloe", bed{3}))
	for told := range r.Watch(t.Context()) {
		assert.Equal(t, []string{"2", "wall", "C4", "aloe", "herbs", "roses", "zinnias", "late", "last"}, told)
		break
	}
	require.NoError(t, ns.Close())
	info, err := os.Stat(ns.Path())
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(400<<10), "rewritten")
	ns = open(t, dir, quiet)
	assert.Equal(t, "2 wall C4 aloe herbs roses zinnias late last ", ids(beds.In(ns)))
	require.NoError(t, ns.Close())
}

// A family is a collection of what At makes, with the key's default and rules.
func TestFamily(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	grams := pantry.Int("grams", 7).Between(0, 5000)
	family := pantry.Family(grams)
	r := family.In(ns)
	require.NoError(t, grams.At("Ana / Ben").In(ns).Set(250))
	_, err := pantry.Add(r.At("Cem"), 3)
	require.NoError(t, err)
	assert.ErrorIs(t, r.Put("Eva", 6000), pantry.ErrInvalid, "the key's bounds")
	assert.Equal(t, []any{250, 10, 7, 2}, []any{r.Get("Ana / Ben"), r.Get("Cem"), r.Get("Dana"), r.Len()})
	var ids []string
	for id := range r.Sorted(func(a, b int) int { return a - b }) {
		ids = append(ids, id)
	}
	assert.Equal(t, []string{"Cem", "Ana / Ben"}, ids)
	d := family.Declared()[0]
	assert.Equal(t, []any{"grams", value.KindInt, true, "5000"}, []any{d.Name, d.Kind, d.Family, d.Max.String()})
	require.NoError(t, r.Clear())
	assert.Zero(t, r.Len())
	assert.Panics(t, func() { pantry.Family(pantry.Text("pin", "").Sealed()) })
}

// Records can be of any type that a list can hold.
func TestRecordsOfAnything(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	when := time.Date(2026, 5, 3, 9, 12, 44, 5, time.UTC)
	check := func(ns *pantry.Namespace, write bool) {
		recordsOf(t, ns, write, "bools", true)
		recordsOf(t, ns, write, "ints", int8(-5))
		recordsOf(t, ns, write, "floats", 4.5)
		recordsOf(t, ns, write, "texts", "C4")
		recordsOf(t, ns, write, "bytes", []byte{0, 255})
		recordsOf(t, ns, write, "times", when)
		recordsOf(t, ns, write, "lists", []string{"C4", "B2"})
		recordsOf(t, ns, write, "maps", map[string]int{"a": 1})
	}
	ns := open(t, dir)
	check(ns, true)
	require.NoError(t, ns.Close())
	check(open(t, dir), false)
	assert.Panics(t, func() { pantry.RecordsOf[func()]("f") })
}

func recordsOf[T any](t *testing.T, ns *pantry.Namespace, write bool, name string, x T) {
	t.Helper()
	r := pantry.RecordsOf[T](name).In(ns)
	if write {
		id, err := r.Add(x)
		require.NoError(t, err, name)
		assert.Equal(t, "1", id)
	}
	got, found, err := r.Lookup("1")
	require.NoError(t, err, name)
	assert.Equal(t, []any{x, true}, []any{got, found}, name)
}

// Changes of a collection on a device, beside what another writer does.
func TestRecordsChanges(t *testing.T) {
	t.Parallel()
	ns := open(t, t.TempDir())
	r := pantry.RecordsOf[string]("notes").In(ns)
	id, err := r.Add("gloves")
	require.NoError(t, err)
	var told []string
	for at, c := range r.Changes(t.Context()) {
		told = append(told, fmt.Sprint(at, c))
		switch len(told) {
		case 1:
			require.NoError(t, r.Put(id, "hats"))
		case 2:
			_, err := r.Add("seeds")
			require.NoError(t, err)
		case 3:
			require.NoError(t, r.Drop(id))
		}
		if len(told) == 4 {
			break
		}
	}
	assert.Equal(t, []string{"1{ gloves false true true}", "1{gloves hats true true false}", "2{ seeds false true false}", "1{hats  true false false}"}, told)
}
