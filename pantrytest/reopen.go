package pantrytest

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// An App is what Reopen and Spoil need to know of an app. A is the type of the open app.
type App[A any] struct {
	Launch  func(dir string) (A, error) // opens the app on the data in a directory
	Close   func(A) error
	Shows   func(A) any // what the user sees; compared with reflect.DeepEqual
	Actions []Action[A]
	// Reset names the action after which the app must show what it shows at its first launch. Empty
	// means that there is none.
	Reset string
}

// An Action is something that a user does.
type Action[A any] struct {
	Name string
	Do   func(A) error
}

// Reopen launches the app in a new directory and runs its actions one by one. After each action it
// closes the app and opens it again. It fails the test if the app does not show what it showed
// before. After the action Reset it also fails the test if the app does not show what it showed at
// its first launch. Use actions that change every value from its default. The action Reset comes
// last.
func Reopen[A any](t testing.TB, app App[A]) {
	t.Helper()
	dir := t.TempDir()
	a, ok := launch(t, app, dir)
	if !ok {
		return
	}
	first := app.Shows(a)
	for _, action := range app.Actions {
		if err := action.Do(a); err != nil {
			t.Errorf("%s: %v", action.Name, err)
		}
		before := app.Shows(a)
		if err := app.Close(a); err != nil {
			t.Errorf("close after %s: %v", action.Name, err)
		}
		if a, ok = launch(t, app, dir); !ok {
			return
		}
		after := app.Shows(a)
		if !reflect.DeepEqual(before, after) {
			t.Errorf("after %s the app shows %s; closed and opened again it shows %s: the difference was not stored, or was stored under another name",
				action.Name, shown(before), shown(after))
		} else if action.Name == app.Reset && !reflect.DeepEqual(first, after) {
			t.Errorf("after %s the app shows %s, and at its first launch %s: the reset misses the difference",
				action.Name, shown(after), shown(first))
		}
	}
	if err := app.Close(a); err != nil {
		t.Errorf("close: %v", err)
	}
}

func launch[A any](t testing.TB, app App[A], dir string) (a A, ok bool) {
	t.Helper()
	a, err := app.Launch(dir)
	if err != nil {
		t.Errorf("launch: %v", err)
	}
	return a, err == nil
}

func shown(x any) string { return strings.TrimSpace(fmt.Sprintf("%+v", x)) }

// wrong holds values of every kind, none of them a sensible one.
var wrong = []value.Value{
	value.Bool(true), value.Int(-987654321), value.Float(-9.75), value.Text("garbage"), value.Bytes([]byte{0, 255}),
	value.List(value.Text("garbage"), value.Int(7)), mapOf("garbage"), value.Sealed([]byte("garbage")),
}

func mapOf(name string) value.Value {
	v, err := value.Map(value.Member{Name: name, Value: value.Int(7)})
	if err != nil {
		panic(err) // the name occurs once
	}
	return v
}

// Spoil stores, for each key and each kind that is wrong for it, a value of that kind in the
// namespace called name, and launches the app. It fails the test if the app does not show what it
// shows at its first launch, or if launching and closing the app overwrote the bad value. Each key
// is a Key, not a FieldsKey or a RecordsKey.
func Spoil[A any](t testing.TB, app App[A], name string, keys ...pantry.AnyKey) {
	t.Helper()
	fresh := t.TempDir()
	a, ok := launch(t, app, fresh)
	if !ok {
		return
	}
	first := app.Shows(a)
	if err := app.Close(a); err != nil {
		t.Errorf("close: %v", err)
	}
	for _, k := range keys {
		for _, bad := range wrong {
			if _, err := value.Convert(bad, k.Kind()); err == nil {
				continue
			}
			spoilOne(t, app, name, k, bad, first)
		}
	}
}

func spoilOne[A any](t testing.TB, app App[A], name string, k pantry.AnyKey, bad value.Value, first any) {
	t.Helper()
	what := fmt.Sprintf("with %s %s under %s", bad.Kind(), entry.Quoted(bad), k.Name())
	defer func() {
		if p := recover(); p != nil {
			t.Errorf("%s the app panics: %v", what, p)
		}
	}()
	dir := t.TempDir()
	quiet := pantry.OnProblem(func(pantry.Problem) {})
	ns, err := pantry.Open(dir, name, quiet, pantry.AnySchema())
	if err == nil {
		err = ns.Put(k.Name(), bad)
	}
	if err == nil {
		err = ns.Close()
	}
	if err != nil {
		t.Errorf("%s: %v", what, err)
		return
	}
	a, err := app.Launch(dir)
	if err != nil {
		t.Errorf("%s the app does not start: %v", what, err)
		return
	}
	if now := app.Shows(a); !reflect.DeepEqual(first, now) {
		t.Errorf("%s the app shows %s, and without it %s: the check for bad values does nothing", what, shown(now), shown(first))
	}
	if err := app.Close(a); err != nil {
		t.Errorf("%s, close: %v", what, err)
	}
	ns, err = pantry.Open(dir, name, quiet, pantry.ReadOnly(), pantry.AnySchema())
	if err != nil {
		t.Errorf("%s: %v", what, err)
		return
	}
	defer ns.Close()
	if e, _ := ns.Entry(k.Name()); !value.Equal(e.Value, bad) {
		t.Errorf("%s: launching the app overwrote it with %s", what, entry.Quoted(e.Value))
	}
}

// AssertUsage fails the test for each declared key of the namespace that was not read, or not
// written, since it was opened. except lists names that the app only reads or only writes on
// purpose.
func AssertUsage(t testing.TB, ns *pantry.Namespace, except ...string) {
	t.Helper()
	left := map[string]bool{}
	for _, name := range except {
		left[name] = true
	}
	used := map[string]pantry.KeyUsage{}
	for _, u := range ns.Usage() {
		used[u.Name] = u
	}
	for _, k := range ns.Declared() {
		u := used[k.Name]
		if k.Family || left[k.Name] {
			continue
		}
		if !u.Read {
			t.Errorf("the key %s is declared and was never read", k.Name)
		}
		if !u.Written {
			t.Errorf("the key %s is declared and was never written", k.Name)
		}
	}
}
