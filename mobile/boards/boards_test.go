package boards_test

import (
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/mobile"
	"github.com/small-pantry/pantry/mobile/boards"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// A phone has the keys of an app, on a board.
type phone struct {
	*boards.Board
	keys  *mobile.Keys
	tank  *boards.IntVar
	kg    *boards.FloatVar
	gate  *boards.BoolVar
	note  *boards.TextVar
	queue *boards.ListVar
	photo *boards.BytesVar
	frost *boards.TimeVar
	pause *boards.DurationVar
	grows *boards.Records
	code  *mobile.TextKey
}

func join(t *testing.T, link, name string, o *boards.Options) *phone {
	t.Helper()
	k := mobile.NewKeys()
	tank, kg, gate, note := k.IntKey("tank/litres", 0).Between(0, 5000), k.FloatKey("harvest/total-kg", 0), k.BoolKey("gate/open", false), k.TextKey("notice", "")
	queue, photo, frost, pause, grows := k.ListKey("hose/queue", "text"), k.BytesKey("photo", nil), k.TimeKey("frost/last", 0), k.DurationKey("gate/pause", 90_000), k.RecordsKey("plantings")
	p := &phone{keys: k, code: k.TextKey("gate-code", "").Sealed()}
	var err error
	p.Board, err = boards.Join(link, k, o.ClientName(name).Timeout(2000).OnProblem(quiet{}, quiet{}))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, p.Close()) })
	var errs [9]error
	p.tank, errs[0] = p.IntVar(tank)
	p.kg, errs[1] = p.FloatVar(kg)
	p.gate, errs[2] = p.BoolVar(gate)
	p.note, errs[3] = p.TextVar(note)
	p.queue, errs[4] = p.ListVar(queue)
	p.photo, errs[5] = p.BytesVar(photo)
	p.frost, errs[6] = p.TimeVar(frost)
	p.pause, errs[7] = p.DurationVar(pause)
	p.grows, errs[8] = p.Records(grows)
	require.NoError(t, errors.Join(errs[:]...))
	return p
}

// quiet runs tasks at once, and says nothing of problems.
type quiet struct{}

func (quiet) Post(t *mobile.Task)    { t.Run() }
func (quiet) Problem(string, string) {}

func code(err error) string {
	if err == nil {
		return ""
	}
	return mobile.Code(err.Error())
}

// counter counts its calls.
type counter struct {
	mu sync.Mutex
	n  int
}

func (c *counter) Changed() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.n++
}

func TestTwoPhones(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	a, b := join(t, s.Link("rowan-street"), "tankwatch", boards.NewOptions()), join(t, s.Link("rowan-street"), "gatehouse", boards.NewOptions().WithoutPush())
	require.NoError(t, a.tank.Set(nil, 420))
	sum, err := b.tank.Add(boards.NewCall(), -20)
	require.NoError(t, err)
	assert.EqualValues(t, 400, sum)
	kg, err := b.kg.Add(nil, 1.5)
	require.NoError(t, err)
	assert.Equal(t, 1.5, kg)
	require.NoError(t, errors.Join(a.gate.Set(nil, true), a.note.Seed(nil, "frost 🌱"), a.queue.Append(nil, mobile.NewItems().AddText("C4"), true), a.queue.Append(nil, mobile.NewItems().AddText("C4"), true)))
	var told counter
	w, err := b.tank.Watch(quiet{}, &told)
	require.NoError(t, err)
	require.Eventually(t, func() bool { n, _ := a.tank.Get(); note, _ := b.note.Get(); return n == 400 && note == "frost 🌱" }, hang.Patience, time.Millisecond)
	_, err = a.tank.Raise(nil, 1000)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		n, _ := b.tank.Get()
		told.mu.Lock()
		defer told.mu.Unlock()
		return n == 1000 && told.n > 1
	}, hang.Patience, time.Millisecond)
	w.Stop()
	state, err := b.tank.State()
	require.NoError(t, err)
	assert.Equal(t, []any{"current", true, false, "tankwatch", ""}, []any{state.Phase, state.Found, state.Mine, state.By, state.Trouble})
	assert.InDelta(t, time.Now().UnixMilli(), state.Updated, 60_000)
	item, err := b.queue.Take(nil, 0)
	require.NoError(t, err)
	first, err := item.GetText(0)
	require.NoError(t, err)
	assert.Equal(t, "C4", first)
	_, err = b.queue.Take(nil, 0)
	assert.Equal(t, "absent", code(err))
	assert.Equal(t, "invalid", code(a.tank.Set(nil, 6000)))
	_, err = a.tank.Add(nil, 6000)
	assert.NotEmpty(t, code(err))
	require.NoError(t, a.note.Clear(nil))
}

// Bytes, moments, durations and records are on a board as they are on a device.
func TestEveryKind(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	a, b := join(t, s.Link("rowan-street"), "plotbook", boards.NewOptions()), join(t, s.Link("rowan-street"), "shed", boards.NewOptions())
	require.NoError(t, errors.Join(a.photo.Set(nil, []byte{0, 255, 7}), a.frost.Set(nil, 1777799564123), a.pause.Set(nil, 1500)))
	id, err := a.grows.Add(nil, mobile.NewRecord().SetText("crop", "beans").SetTime("sown", 1777799564123).SetFloat("spacing-m", 5))
	require.NoError(t, err)
	require.NoError(t, a.grows.Put(nil, "bed-c4", mobile.NewRecord().SetText("crop", "peas")))
	require.Eventually(t, func() bool {
		_, err := b.grows.Get("bed-c4")
		photo, _ := b.photo.Get()
		pause, _ := b.pause.Get()
		return err == nil && string(photo) == "\x00\xff\x07" && pause == 1500
	}, hang.Patience, time.Millisecond)
	frost, err := b.frost.Get()
	require.NoError(t, err)
	assert.EqualValues(t, 1777799564123, frost)
	one, err := b.grows.Get(id)
	require.NoError(t, err)
	sown, err := one.GetTime("sown")
	require.NoError(t, err)
	spacing, err := one.GetFloat("spacing-m")
	require.NoError(t, err)
	assert.Equal(t, []any{int64(1777799564123), 5.0}, []any{sown, spacing})
	ids, err := b.grows.Ids()
	require.NoError(t, err)
	first, _ := ids.At(0)
	last, _ := ids.At(1)
	assert.Equal(t, []any{2, id, "bed-c4"}, []any{ids.Len(), first, last})

	var told counter
	w, err := b.grows.Watch(quiet{}, &told)
	require.NoError(t, err)
	require.NoError(t, a.grows.Drop(nil, id))
	require.Eventually(t, func() bool { _, err := b.grows.Get(id); return code(err) == "absent" }, hang.Patience, time.Millisecond)
	require.NoError(t, a.grows.Clear(nil))
	require.Eventually(t, func() bool { ids, _ := b.grows.Ids(); return ids.Len() == 0 }, hang.Patience, time.Millisecond)
	told.mu.Lock()
	assert.GreaterOrEqual(t, told.n, 2)
	told.mu.Unlock()
	w.Stop()
	assert.Equal(t, "invalid", code(a.grows.Put(nil, "a/b", mobile.NewRecord())))
	nested := mobile.NewKeys()
	deeper := nested.RecordsKey("plantings/a")
	other, err := boards.Join(s.Link("rowan-street"), nested, nil)
	require.NoError(t, err)
	defer func() { assert.NoError(t, other.Close()) }()
	deep, err := other.Records(deeper)
	require.NoError(t, err)
	require.NoError(t, deep.Put(nil, "b", mobile.NewRecord().SetText("crop", "peas")))
	require.Eventually(t, func() bool { _, err := deep.Get("b"); return err == nil }, hang.Patience, time.Millisecond)
	_, err = b.grows.Get("a/b")
	assert.Equal(t, "absent", code(err), "it is of another collection")
	assert.Equal(t, "too-large", code(a.photo.Set(nil, make([]byte, 2<<20))))
}

// Changes during an outage are kept and sent after it. A caller that does not want to wait discards them.
func TestOutage(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	p := join(t, s.Link("rowan-street"), "tankwatch", boards.NewOptions().Offline(t.TempDir()))
	require.NoError(t, p.tank.Set(nil, 420))
	require.NoError(t, p.Ready(nil))
	s.Cut()
	left, err := p.tank.Add(nil, -10)
	require.NoError(t, err)
	assert.EqualValues(t, 410, left, "what is stored once it is sent")
	assert.Equal(t, 1, p.Pending())
	state, err := p.tank.State()
	require.NoError(t, err)
	assert.Equal(t, []any{"queued", 1}, []any{state.Phase, state.Queued})
	assert.InDelta(t, time.Now().UnixMilli(), state.AsOf, 60_000)
	known, _ := p.tank.Get()
	waiting, err := p.tank.Waiting()
	require.NoError(t, err)
	assert.Equal(t, []int64{420, 410}, []int64{known, waiting})
	require.NoError(t, p.queue.Append(nil, mobile.NewItems().AddText("B2"), false))
	list, err := p.queue.Waiting()
	require.NoError(t, err)
	assert.Equal(t, 1, list.Len())
	id, err := p.grows.Add(nil, mobile.NewRecord().SetText("crop", "peas"))
	require.NoError(t, err)
	_, err = p.queue.Take(nil, 0)
	assert.Equal(t, "unreachable", code(err), "its result is needed now")
	require.Eventually(t, func() bool { return mobile.Code(p.Trouble()) == "unreachable" }, hang.Patience, time.Millisecond)
	s.Connect()
	require.Eventually(t, func() bool { n, _ := p.tank.Get(); return n == 410 && p.Pending() == 0 && p.Trouble() == "" }, hang.Patience, time.Millisecond)
	require.Eventually(t, func() bool { _, err := p.grows.Get(id); return err == nil }, hang.Patience, time.Millisecond)

	other := join(t, s.Link("rowan-street"), "gatehouse", boards.NewOptions())
	s.Slow(2 * time.Second)
	call := boards.NewCall()
	begun := time.Now()
	time.AfterFunc(50*time.Millisecond, call.GiveUp)
	assert.Equal(t, "given-up", code(other.tank.Set(call, 1)))
	assert.Less(t, time.Since(begun), time.Second)
	s.Slow(0)
}

// Every misuse is an error.
func TestMisuse(t *testing.T) {
	t.Parallel()
	s := boardtest.NewServer(t)
	p := join(t, s.Link("rowan-street"), "tankwatch", boards.NewOptions())
	of := func(_ any, err error) string { return code(err) }
	foreign := mobile.NewKeys().IntKey("tank/litres", 0)
	for what, got := range map[string]string{
		"no link": of(boards.Join("not a link", p.keys, nil)), "no keys": of(boards.Join(s.Link("x"), nil, nil)), "foreign keys": of(p.IntVar(foreign)), "an empty key": of(p.IntVar(&mobile.IntKey{})),
		"an empty board": of((&boards.Board{}).IntVar(foreign)), "an empty variable": code((&boards.IntVar{}).Set(nil, 1)), "a sealed key": of(p.TextVar(p.code)),
		"a list that is nil": code(p.queue.Set(nil, nil)), "no runner": of(p.tank.Watch(nil, nil)), "no key": of(p.TimeVar(nil)), "no records": of(p.Records(nil)), "records that are nil": of(p.grows.Add(nil, nil)), "an empty collection": of((&boards.Records{}).Ids()), "an empty one closed": code((&boards.Board{}).Close()),
		"no handler": of(boards.Join(s.Link("x"), mobile.NewKeys(), boards.NewOptions().OnProblem(nil, nil))),
	} {
		if want := map[bool]string{true: "link", false: "misuse"}[what == "no link"]; got != want {
			t.Errorf("%s: %q", what, got)
		}
	}
	(*boards.Call)(nil).GiveUp()
	(&boards.Board{}).Pause()
}
