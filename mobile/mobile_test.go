package mobile_test

import (
	"errors"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/mobile"
)

// An app declares a key of each kind.
type app struct {
	keys    *mobile.Keys
	hour    *mobile.IntKey
	spacing *mobile.FloatKey
	frost   *mobile.BoolKey
	plot    *mobile.TextKey
	units   *mobile.TextKey
	code    *mobile.TextKey
	photo   *mobile.BytesKey
	sown    *mobile.TimeKey
	pause   *mobile.DurationKey
	queue   *mobile.ListKey
}

func declared() *app {
	k := mobile.NewKeys()
	return &app{
		keys: k, hour: k.IntKey("reminder-hour", 18).Between(0, 23).About("when to remind"), spacing: k.FloatKey("spacing-m", 0.3).Between(0, 5), frost: k.BoolKey("frost/warning", false),
		plot: k.TextKey("plot", ""), units: k.ChoiceKey("units", mobile.NewTexts().Add("metric").Add("imperial")), code: k.TextKey("gate-code", "").Sealed(),
		photo: k.BytesKey("photo", nil), sown: k.TimeKey("sown", 0), pause: k.DurationKey("pause", 90_000), queue: k.ListKey("hose/queue", "text").Keep(3),
	}
}

func open(t *testing.T, a *app, dir string) *mobile.Namespace {
	t.Helper()
	ns, err := mobile.Open(dir, "plotbook", a.keys, mobile.NewOptions().Seal(make([]byte, 32)).ClientName("plotbook"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, ns.Close()) })
	return ns
}

func texts(all ...string) *mobile.Items {
	l := mobile.NewItems()
	for _, s := range all {
		l.AddText(s)
	}
	return l
}

// short accepts texts of at most two letters.
type short struct{}

func (short) Check(text string) string {
	if len(text) > 2 {
		return "Enter at most two letters."
	}
	return ""
}

// must returns the result of a call that has no error.
func must[T any](t *testing.T) func(x T, err error) T {
	return func(x T, err error) T {
		t.Helper()
		require.NoError(t, err)
		return x
	}
}

func code(err error) string {
	if err == nil {
		return ""
	}
	return mobile.Code(err.Error())
}

// Every kind is exact, and there when it is opened again.
func TestKinds(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	a := declared()
	ns := open(t, a, dir)
	hour := must[*mobile.IntVar](t)(a.hour.Bind(ns))
	assert.EqualValues(t, 18, must[int64](t)(hour.Get()))
	assert.False(t, must[bool](t)(hour.Stored()))
	require.NoError(t, hour.Set(7))
	assert.EqualValues(t, 9, must[int64](t)(hour.Add(2)))
	assert.EqualValues(t, 12, must[int64](t)(hour.Raise(12)))
	assert.EqualValues(t, 3, must[int64](t)(hour.Lower(3)))
	spacing := must[*mobile.FloatVar](t)(a.spacing.Bind(ns))
	require.NoError(t, spacing.Set(5))
	assert.Equal(t, 4.5, must[float64](t)(spacing.Add(-0.5)))
	assert.Equal(t, 4.75, must[float64](t)(spacing.Raise(4.75)))
	assert.Equal(t, 0.25, must[float64](t)(spacing.Lower(0.25)))
	require.NoError(t, spacing.Set(5.0))
	require.NoError(t, must[*mobile.BoolVar](t)(a.frost.Bind(ns)).Set(true))
	require.NoError(t, must[*mobile.TextVar](t)(a.plot.Bind(ns)).Set("C4 🌱"))
	require.NoError(t, must[*mobile.TextVar](t)(a.units.Bind(ns)).Set("imperial"))
	require.NoError(t, must[*mobile.TextVar](t)(a.code.Bind(ns)).Set("a word that must stay secret"))
	photo := []byte{0, 255, 7}
	require.NoError(t, must[*mobile.BytesVar](t)(a.photo.Bind(ns)).Set(photo))
	photo[0] = 9
	require.NoError(t, must[*mobile.TimeVar](t)(a.sown.Bind(ns)).Set(1_777_799_564_123))
	require.NoError(t, must[*mobile.DurationVar](t)(a.pause.Bind(ns)).Set(1500))
	queue := must[*mobile.ListVar](t)(a.queue.Bind(ns))
	for _, bed := range []string{"A1", "B2", "C4", "C4", "D1"} {
		require.NoError(t, queue.Append(texts(bed), true))
	}
	assert.Equal(t, "B2", must[string](t)(must[*mobile.Items](t)(queue.Take(0)).GetText(0)))
	require.NoError(t, queue.Remove(texts("D1"), false))
	require.NoError(t, ns.Close())
	assert.Equal(t, "closed", code(hour.Set(1)))
	assert.EqualValues(t, 3, must[int64](t)(hour.Get()), "what was last")

	b := declared()
	ns = open(t, b, dir)
	assert.EqualValues(t, 3, must[int64](t)(must[*mobile.IntVar](t)(b.hour.Bind(ns)).Get()))
	assert.Equal(t, 5.0, must[float64](t)(must[*mobile.FloatVar](t)(b.spacing.Bind(ns)).Get()))
	assert.True(t, must[bool](t)(must[*mobile.BoolVar](t)(b.frost.Bind(ns)).Get()))
	assert.Equal(t, "C4 🌱", must[string](t)(must[*mobile.TextVar](t)(b.plot.Bind(ns)).Get()))
	assert.Equal(t, "imperial", must[string](t)(must[*mobile.TextVar](t)(b.units.Bind(ns)).Get()))
	assert.Equal(t, "a word that must stay secret", must[string](t)(must[*mobile.TextVar](t)(b.code.Bind(ns)).Get()))
	assert.Equal(t, []byte{0, 255, 7}, must[[]byte](t)(must[*mobile.BytesVar](t)(b.photo.Bind(ns)).Get()))
	assert.EqualValues(t, 1_777_799_564_123, must[int64](t)(must[*mobile.TimeVar](t)(b.sown.Bind(ns)).Get()))
	assert.EqualValues(t, 1500, must[int64](t)(must[*mobile.DurationVar](t)(b.pause.Bind(ns)).Get()))
	list := must[*mobile.Items](t)(must[*mobile.ListVar](t)(b.queue.Bind(ns)).Get())
	require.Equal(t, 1, list.Len())
	assert.Equal(t, "C4", must[string](t)(list.GetText(0)))
	entries := must[*mobile.Entries](t)(ns.Entries("s"))
	require.Equal(t, 2, entries.Len())
	e := must[*mobile.Entry](t)(entries.At(1))
	assert.Equal(t, []any{"spacing-m", "float", "5.0", "plotbook"}, []any{e.Name, e.Kind, e.JSON, e.By})
	e = must[*mobile.Entry](t)(must[*mobile.Entries](t)(ns.Entries("gate")).At(0))
	assert.Equal(t, "sealed", e.Kind)
	require.NoError(t, must[*mobile.IntVar](t)(b.hour.Bind(ns)).Set(7))
	require.NoError(t, ns.Reset())
	assert.Zero(t, must[*mobile.Entries](t)(ns.Entries("")).Len())
}

// Lists have items of every kind, exactly.
func TestLists(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	all := map[string]*mobile.Items{
		"int": mobile.NewItems().AddInt(9007199254740993), "float": mobile.NewItems().AddFloat(5).AddFloat(0.1), "bool": mobile.NewItems().AddBool(true),
		"text": texts("C4 🌱"), "bytes": mobile.NewItems().AddBytes([]byte{0, 255}), "time": mobile.NewItems().AddTime(1_777_799_564_123), "duration": mobile.NewItems().AddDuration(1500),
	}
	open := func() (*mobile.Namespace, map[string]*mobile.ListVar) {
		k, keys, vars := mobile.NewKeys(), map[string]*mobile.ListKey{}, map[string]*mobile.ListVar{}
		for kind := range all {
			keys[kind] = k.ListKey(kind+"s", kind).About("items of kind " + kind)
		}
		ns := must[*mobile.Namespace](t)(mobile.Open(dir, "plotbook", k, nil))
		for kind, key := range keys {
			vars[kind] = must[*mobile.ListVar](t)(key.Bind(ns))
			assert.Equal(t, kind+"s", key.Name())
			assert.Equal(t, "items of kind "+kind, key.Describe())
		}
		return ns, vars
	}
	ns, vars := open()
	for kind, items := range all {
		assert.False(t, must[bool](t)(vars[kind].Stored()))
		require.NoError(t, vars[kind].Seed(items), kind)
		require.NoError(t, vars[kind].Append(items, true), "it is there")
		require.NoError(t, vars[kind].Append(items, false))
		require.NoError(t, vars[kind].Remove(items, false))
	}
	assert.Equal(t, "wrong-kind", code(vars["int"].Append(texts("seven"), false)))
	require.NoError(t, ns.Close())
	ns, vars = open()
	defer func() { require.NoError(t, ns.Close()) }()
	at := func(kind string) *mobile.Items { return must[*mobile.Items](t)(vars[kind].Get()) }
	assert.EqualValues(t, 9007199254740993, must[int64](t)(at("int").GetInt(0)))
	assert.Equal(t, 5.0, must[float64](t)(at("float").GetFloat(0)))
	assert.Equal(t, 2, at("float").Len())
	assert.True(t, must[bool](t)(at("bool").GetBool(0)))
	assert.Equal(t, "C4 🌱", must[string](t)(at("text").GetText(0)))
	assert.Equal(t, []byte{0, 255}, must[[]byte](t)(at("bytes").GetBytes(0)))
	assert.EqualValues(t, 1_777_799_564_123, must[int64](t)(at("time").GetTime(0)))
	assert.EqualValues(t, 1500, must[int64](t)(at("duration").GetDuration(0)))
	_, err := at("text").GetInt(0)
	assert.Equal(t, "wrong-kind", code(err))
	_, err = at("text").GetText(1)
	assert.Equal(t, "misuse", code(err))
	require.NoError(t, vars["text"].Clear())
	assert.Zero(t, at("text").Len())
}

// An app's own rule refuses a text with its own sentence.
func TestTextRule(t *testing.T) {
	t.Parallel()
	k := mobile.NewKeys()
	bed := k.TextKey("bed", "").Check(short{})
	ns := must[*mobile.Namespace](t)(mobile.Open(t.TempDir(), "plotbook", k, nil))
	defer func() { require.NoError(t, ns.Close()) }()
	v := must[*mobile.TextVar](t)(bed.Bind(ns))
	require.NoError(t, v.Set("C4"))
	err := v.Set("elm")
	assert.Equal(t, "invalid", code(err))
	assert.Equal(t, "Enter at most two letters.", mobile.Sentence(err.Error()))
	_, err = bed.Parse("elm")
	assert.Contains(t, mobile.Sentence(err.Error()), "Enter at most two letters.")
	assert.Equal(t, "C4", must[string](t)(v.Get()))
}

// What a user typed is judged in a sentence for him.
func TestTyped(t *testing.T) {
	t.Parallel()
	a := declared()
	open(t, a, t.TempDir())
	assert.EqualValues(t, 7, must[int64](t)(a.hour.Parse(" 7 ")))
	for _, typed := range []string{"", "x", "24", "5.5"} {
		_, err := a.hour.Parse(typed)
		assert.Equal(t, "invalid", code(err), typed)
		sentence := mobile.Sentence(err.Error())
		assert.NotContains(t, sentence, "invalid: ", typed)
		assert.Greater(t, len(sentence), 10, typed)
	}
	assert.EqualValues(t, 300_000, must[int64](t)(a.pause.Parse("5 min")))
	text := must[string](t)(a.spacing.Format(0.25))
	assert.Equal(t, 0.25, must[float64](t)(a.spacing.Parse(text)))
	assert.Equal(t, 2, a.units.Choices().Len())
	assert.Equal(t, "when to remind", a.hour.Describe())
	assert.Equal(t, "reminder-hour", a.hour.Name())
}

// Every misuse is an error, and never ends the process.
func TestMisuse(t *testing.T) {
	t.Parallel()
	for what, declare := range map[string]func(k *mobile.Keys){
		"a bad name": func(k *mobile.Keys) { k.IntKey("", 1) }, "bounds without the default": func(k *mobile.Keys) { k.IntKey("n", 5).Between(6, 9) },
		"two of a name": func(k *mobile.Keys) { k.IntKey("n", 5); k.TextKey("n", "") }, "a choice of nothing": func(k *mobile.Keys) { k.ChoiceKey("c", nil) },
		"a choice twice": func(k *mobile.Keys) { k.ChoiceKey("c", mobile.NewTexts().Add("a").Add("a")) }, "no length": func(k *mobile.Keys) { k.ListKey("l", "text").Keep(-1) },
		"items of no kind": func(k *mobile.Keys) { k.ListKey("l", "colour") }, "no rule": func(k *mobile.Keys) { k.TextKey("t", "").Check(nil) },
		"too long": func(k *mobile.Keys) { k.DurationKey("s", 1<<62) },
	} {
		k := mobile.NewKeys()
		declare(k)
		_, err := mobile.Open(t.TempDir(), "plotbook", k, nil)
		require.Error(t, err, what)
		assert.Contains(t, []string{"misuse", "invalid"}, code(err), "%s: %v", what, err)
	}
	for what, o := range map[string]*mobile.Options{"a key that is none": mobile.NewOptions().Seal([]byte("short")), "no runner": mobile.NewOptions().OnProblem(nil, nil)} {
		_, err := mobile.Open(t.TempDir(), "plotbook", mobile.NewKeys(), o)
		assert.Equal(t, "misuse", code(err), what)
	}
	_, err := mobile.Open(t.TempDir(), "plotbook", nil, nil)
	assert.Equal(t, "misuse", code(err))
	_, err = mobile.Open(t.TempDir(), "Plot Book", mobile.NewKeys(), nil)
	assert.Equal(t, "invalid", code(err))

	a, other := declared(), declared()
	ns := open(t, a, t.TempDir())
	elsewhere, err := mobile.Open(t.TempDir(), "plotbook", other.keys, mobile.NewOptions().Seal(make([]byte, 32)))
	require.NoError(t, err)
	defer func() { require.NoError(t, elsewhere.Close()) }()
	bind := func(k *mobile.IntKey, ns *mobile.Namespace) error { _, err := k.Bind(ns); return err }
	for what, err := range map[string]error{
		"foreign keys": bind(a.hour, elsewhere), "an empty key": bind(&mobile.IntKey{}, ns), "no namespace": bind(a.hour, nil), "an empty one": bind(a.hour, &mobile.Namespace{}),
		"an empty variable": (&mobile.IntVar{}).Set(1), "an empty list": func() error { _, err := (&mobile.ListVar{}).Take(0); return err }(), "an empty key of lists": func() error { _, err := (&mobile.ListKey{}).Bind(ns); return err }(),
		"a namespace that is none": (&mobile.Namespace{}).Close(), "no change": ns.Commit(nil), "a declaration too late": func() error {
			a.keys.IntKey("late", 1)
			_, err := mobile.Open(t.TempDir(), "plotbook", a.keys, nil)
			return err
		}(),
		"no item": func() error { _, err := mobile.NewTexts().At(0); return err }(), "an empty watching": func() error { _, err := (&mobile.IntVar{}).Watch(nil, nil); return err }(),
		"no runner":          func() error { v, _ := a.hour.Bind(ns); _, err := v.Watch(nil, nil); return err }(),
		"a list that is nil": func() error { v, _ := a.queue.Bind(ns); return v.Set(nil) }(),
	} {
		assert.Equal(t, "misuse", code(err), "%s: %v", what, err)
	}
	(*mobile.Watching)(nil).Stop()
	(&mobile.Task{}).Run()
	assert.Empty(t, (&mobile.IntKey{}).Name())
}

type change func(b *mobile.Batch) error

func (c change) Apply(b *mobile.Batch) error { return c(b) }

// A commit is whole or not at all.
func TestCommit(t *testing.T) {
	t.Parallel()
	a := declared()
	ns := open(t, a, t.TempDir())
	hour, plot := must[*mobile.IntVar](t)(a.hour.Bind(ns)), must[*mobile.TextVar](t)(a.plot.Bind(ns))
	var escaped *mobile.Batch
	set := func(fail error) error {
		return ns.Commit(change(func(b *mobile.Batch) error {
			escaped = b
			h, p := must[*mobile.IntVar](t)(a.hour.In(b)), must[*mobile.TextVar](t)(a.plot.In(b))
			return errors.Join(h.Set(7), p.Set("C4"), fail)
		}))
	}
	err := set(errors.New("the app wants it not"))
	assert.Equal(t, "failed", code(err))
	assert.Contains(t, err.Error(), "the app wants it not")
	assert.EqualValues(t, 18, must[int64](t)(hour.Get()))
	before := ns.Version()
	require.NoError(t, set(nil))
	assert.Equal(t, []any{int64(7), "C4"}, []any{must[int64](t)(hour.Get()), must[string](t)(plot.Get())})
	assert.Equal(t, before+1, ns.Version())
	_, err = a.hour.In(escaped)
	assert.Equal(t, "misuse", code(err), "it is over")
	assert.Equal(t, "invalid", code(ns.Commit(change(func(b *mobile.Batch) error { return must[*mobile.IntVar](t)(a.hour.In(b)).Set(24) }))))
}

// What an app carries.
func TestCarries(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-deps", ".").Output()
	require.NoError(t, err)
	for _, pkg := range []string{"net", "net/http", "encoding/json", "log/slog", "regexp"} {
		assert.NotContains(t, strings.Fields(string(out)), pkg)
	}
}

// problems keeps the reported problems.
type problems struct{ told []string }

func (p *problems) Post(t *mobile.Task)       { t.Run() }
func (p *problems) Problem(name, what string) { p.told = append(p.told, name+" "+what) }

func TestOptions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	k := mobile.NewKeys()
	text := k.TextKey("reminder-hour", "")
	ns := must[*mobile.Namespace](t)(mobile.Open(dir, "plotbook", k, mobile.NewOptions().SyncWithin(10_000)))
	require.NoError(t, must[*mobile.TextVar](t)(text.Bind(ns)).Set("noon"))
	require.NoError(t, ns.Flush())
	require.NoError(t, ns.Close())

	var p problems
	a := declared()
	ns, err := mobile.Open(dir, "plotbook", a.keys, mobile.NewOptions().ReadOnly().OnProblem(&p, &p).Seal(make([]byte, 32)))
	require.NoError(t, err)
	defer func() { require.NoError(t, ns.Close()) }()
	hour := must[*mobile.IntVar](t)(a.hour.Bind(ns))
	assert.EqualValues(t, 18, must[int64](t)(hour.Get()), "the stored value is no number")
	assert.Equal(t, "read-only", code(hour.Set(7)))
	_, err = hour.Stored()
	assert.Equal(t, "wrong-kind", code(err))
	require.NotEmpty(t, p.told)
	assert.Contains(t, p.told[0], "reminder-hour wrong-kind: ")
}
