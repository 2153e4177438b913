package board_test

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

// A family is a collection with the rules of its key. Its members are variables, which several phones
// count at once.
func TestFamilyOnABoard(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	one, two := st.join(t), st.join(t)
	grams := pantry.Int("harvest/grams", 0).Between(0, 5000)
	a, b := board.OnRecords(one, pantry.Family(grams)), board.OnRecords(two, pantry.Family(grams))
	require.NoError(t, one.Ready(t.Context()))
	require.NoError(t, two.Ready(t.Context()))
	for _, r := range []board.Records[int]{a, b} {
		_, err := board.Add(t.Context(), r.At("Ana"), 200)
		require.NoError(t, err)
	}
	_, err := board.Raise(t.Context(), a.At("Ben / Eva"), 350)
	require.NoError(t, err)
	_, err = board.Add(t.Context(), a.At("Ana"), 4800)
	assert.ErrorIs(t, err, pantry.ErrInvalid, "the key's bounds")
	require.NoError(t, board.On(one, grams.At("Cem")).Set(t.Context(), 90))
	eventually := func(want ...string) {
		t.Helper()
		require.Eventually(t, func() bool { return slices.Equal(want, order(b)) }, hang.Patience, time.Millisecond, "%v", order(b))
	}
	eventually("Ana", "Ben / Eva", "Cem")
	assert.Equal(t, []int{400, 350, 90, 0}, []int{b.Get("Ana"), b.Get("Ben / Eva"), b.Get("Cem"), b.Get("Dana")})
	var best []string
	for id := range b.Sorted(func(x, y int) int { return y - x }) {
		best = append(best, id)
	}
	assert.Equal(t, []string{"Ana", "Ben / Eva", "Cem"}, best)
	require.NoError(t, b.Drop(t.Context(), "Ben / Eva"))
	eventually("Ana", "Cem")
	_, err = board.Add(t.Context(), pantryList(one).At("a/b"), 1)
	assert.ErrorIs(t, err, pantry.ErrInvalid, "an id that is no part of a name")
	require.NoError(t, a.Clear(t.Context()))
	eventually()
}

func pantryList(b *board.Board) board.Records[int] {
	return board.OnRecords(b, pantry.RecordsOf[int]("counts"))
}

func order[T any](r board.Records[T]) (ids []string) {
	for id := range r.All() {
		ids = append(ids, id)
	}
	return ids
}

type notice struct{ Text string }

// Changes yields what is there, and then what is new, changed or removed, each with what was there
// before.
func TestChangesOfRecords(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	one, two := st.join(t), st.join(t)
	notices := pantry.RecordsOf[notice]("notices")
	r := board.OnRecords(one, notices)
	id, err := r.Add(t.Context(), notice{"bring gloves"})
	require.NoError(t, err)
	type seen struct {
		id string
		c  board.ItemChange[notice]
	}
	told, own := make(chan seen, 10), make(chan seen, 10)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		for id, c := range board.OnRecords(two, notices).Changes(ctx) {
			told <- seen{id, c}
		}
	}()
	gloves, hats := notice{"bring gloves"}, notice{"bring hats"}
	assert.Equal(t, seen{id, board.ItemChange[notice]{New: gloves, Has: true, First: true}}, <-told)
	go func() { // the writer itself hears of each change once, also while it is being sent
		for id, c := range r.Changes(ctx) {
			own <- seen{id, c}
		}
	}()
	assert.Equal(t, seen{id, board.ItemChange[notice]{New: gloves, Has: true, First: true}}, <-own)
	require.NoError(t, r.Put(t.Context(), id, hats))
	assert.Equal(t, seen{id, board.ItemChange[notice]{Old: gloves, New: hats, Had: true, Has: true}}, <-own)
	assert.Equal(t, seen{id, board.ItemChange[notice]{Old: gloves, New: hats, Had: true, Has: true}}, <-told)
	next, err := r.Add(t.Context(), gloves)
	require.NoError(t, err)
	assert.Equal(t, seen{next, board.ItemChange[notice]{New: gloves, Has: true}}, <-told)
	require.NoError(t, r.Drop(t.Context(), id))
	assert.Equal(t, seen{id, board.ItemChange[notice]{Old: hats, Had: true}}, <-told)
}

// A record is added without the network, under an id that it keeps.
func TestAddRecordsOffline(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	dir := t.TempDir()
	b := st.join(t, board.Offline(dir))
	r := board.OnRecords(b, pantry.RecordsOf[notice]("notices"))
	require.NoError(t, b.Ready(t.Context()))
	st.answer(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	var ids []string
	for _, text := range []string{"a", "b", "c"} {
		id, err := r.Add(t.Context(), notice{text})
		require.ErrorIs(t, err, board.ErrQueued)
		ids = append(ids, id)
	}
	require.NoError(t, b.Close())
	st.answer(nil)
	b = st.join(t, board.Offline(dir))
	r = board.OnRecords(b, pantry.RecordsOf[notice]("notices"))
	require.Eventually(t, func() bool { return slices.Equal(ids, order(r)) }, hang.Patience, time.Millisecond, "%v", order(r))
	assert.Equal(t, notice{"b"}, r.Get(ids[1]))
	_, err := r.Add(t.Context(), notice{"\xff"})
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	assert.False(t, errors.Is(err, board.ErrQueued))
}

// A plain Set that replaced what this app had not seen is reported, with what was lost. So is a name
// that nearly matches another one.
func TestWhatASetReplaced(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	problems := make(chan error, 10)
	tell := board.OnProblem(func(p pantry.Problem) { problems <- p.Err })
	shed, phone := st.join(t, board.ClientName("shed")), st.join(t, tell)
	key := pantry.Int("tank/litres", 0)
	require.NoError(t, board.On(shed, key).Set(t.Context(), 300))
	v := board.On(phone, key)
	require.NoError(t, phone.Ready(t.Context()))
	require.NoError(t, v.Set(t.Context(), 310))
	phone.Pause()
	require.NoError(t, board.On(shed, key).Set(t.Context(), 290))
	require.NoError(t, v.Set(t.Context(), 305))
	problem := func() error {
		select {
		case err := <-problems:
			return err
		case <-time.After(hang.Patience):
			require.FailNow(t, "no problem is reported")
			return nil
		}
	}
	var lost *board.ReplacedError
	require.ErrorAs(t, problem(), &lost)
	assert.Equal(t, []any{"tank/litres", "290", "shed", "305"}, []any{lost.Name, lost.Lost.Value.String(), lost.Lost.By, lost.Now.String()})
	assert.Contains(t, lost.Error(), "replaced 290, which shed stored")
	assert.Contains(t, lost.Error(), "use Add, Raise, Lower, Update or SetIf")
	phone.Resume()

	board.On(phone, pantry.Int("tank/Litre", 0))
	var near *board.NearError
	require.ErrorAs(t, problem(), &near)
	assert.Equal(t, board.NearError{Name: "tank/Litre", Near: "tank/litres", By: ""}, *near)
	_, err := phone.Put(t.Context(), "tank/litress", value.Int(3))
	require.NoError(t, err)
	require.ErrorAs(t, problem(), &near)
	assert.Equal(t, "tank/litress", near.Name)
	assert.Contains(t, near.Error(), "is one of them misspelt?")
	_, _, err = phone.Entry(t.Context(), "tank/litres2")
	require.NoError(t, err)
	require.NoError(t, v.Set(t.Context(), 1))
	select {
	case err := <-problems:
		t.Fatal(err)
	case <-time.After(50 * time.Millisecond): // a problem that is not reported has no other sign
	}
}

// Mistakes with keys are reported at their first use, without a declaration, once each.
func TestFirstUseOnABoard(t *testing.T) {
	t.Parallel()
	st := newStore(t)
	problems := make(chan string, 20)
	b := st.join(t, board.OnProblem(func(p pantry.Problem) { problems <- p.Name + ": " + p.Err.Error() }))
	type hidden struct {
		Crop string
		bed  string
	}
	_ = hidden{}.bed
	for range 3 {
		board.On(b, pantry.Int("best", 0))
		board.On(b, pantry.Int("best", 5))
		board.On(b, pantry.Text("wifi-password", ""))
		board.OnRecords(b, pantry.RecordsOf[hidden]("hidden"))
		board.On(b, pantry.Int("fine", 0).Between(0, 5))
	}
	var told []string
	for range 3 {
		told = append(told, <-problems)
	}
	slices.Sort(told)
	assert.Contains(t, told[0], "best: two keys have the name")
	assert.Contains(t, told[1], "hidden: the field bed of board_test.hidden does not survive")
	assert.Contains(t, told[2], "wifi-password: the name \"wifi-password\" suggests a secret")
	select {
	case more := <-problems:
		t.Fatal(more)
	case <-time.After(50 * time.Millisecond): // nothing follows
	}
}
