package pantrytest

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

// A Moved is the result of a migration for one entry.
type Moved struct {
	Name string // in the older file
	To   string // where its value is now; empty if it is gone
	Old  value.Value
	New  value.Value // the zero Value if it is gone
}

// String describes it in one line.
func (m Moved) String() string {
	switch {
	case m.To == "":
		return m.Name + ": removed"
	case m.To != m.Name:
		return fmt.Sprintf("%s: renamed to %s", m.Name, m.To)
	case !value.Equal(m.Old, m.New):
		return fmt.Sprintf("%s: %s is now %s", m.Name, m.Old, m.New)
	}
	return m.Name + ": unchanged"
}

// Migrate opens a copy of a file that an older version of an app saved, DIR/NAME.jsonl, with the options
// of the present version, and returns what became of each entry, in order of the names. It fails the test
// if Open fails, or reports a problem: a stored entry, field or member that no key reads any more is one.
func Migrate(t testing.TB, file string, opts ...pantry.Option) []Moved {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatalf("read the older file: %v", err)
	}
	name, dir := strings.TrimSuffix(filepath.Base(file), ".jsonl"), t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, name+".jsonl"), text, 0o600); err != nil {
		t.Fatal(err)
	}
	before := entriesOf(t, dir, name, pantry.AnySchema(), pantry.ReadOnly())
	opts = append([]pantry.Option{pantry.OnProblem(func(p pantry.Problem) { t.Errorf("migrate %s: %v", name, p) })}, opts...)
	after := entriesOf(t, dir, name, opts...)
	var out []Moved
	taken := map[string]bool{}
	for _, e := range before {
		taken[e.Name] = true
	}
	for _, old := range before {
		m := Moved{Name: old.Name, Old: old.Value}
		for _, now := range after {
			if now.Name == old.Name {
				m.To, m.New = now.Name, now.Value
			}
		}
		for _, now := range after {
			if m.To == "" && !taken[now.Name] && value.Equal(now.Value, old.Value) {
				m.To, m.New = now.Name, now.Value
				taken[now.Name] = true
			}
		}
		out = append(out, m)
	}
	return out
}

func entriesOf(t testing.TB, dir, name string, opts ...pantry.Option) (all []pantry.Entry) {
	t.Helper()
	ns, err := pantry.Open(dir, name, opts...)
	if err != nil {
		t.Fatalf("open %s: %v", name, err)
	}
	for e := range ns.Entries("") {
		all = append(all, e)
	}
	if err := ns.Close(); err != nil {
		t.Fatalf("close %s: %v", name, err)
	}
	return all
}

// Versions runs two versions of an app on one directory, one after the other in each order, as when a
// user goes back to the older one. It fails the test if a version returns an error, except pantry.ErrNewer
// from the older one after the newer.
func Versions(t testing.TB, older, newer func(dir string) error) {
	t.Helper()
	for _, order := range [][]string{{"older", "newer", "older", "newer"}, {"newer", "older", "newer"}} {
		dir, migrated := t.TempDir(), false
		for _, which := range order {
			run := older
			if which == "newer" {
				run, migrated = newer, true
			}
			err := run(dir)
			if err != nil && !(which == "older" && migrated && errors.Is(err, pantry.ErrNewer)) {
				t.Errorf("the %s version, in the order %s: %v", which, strings.Join(order, ", "), err)
			}
		}
	}
}
