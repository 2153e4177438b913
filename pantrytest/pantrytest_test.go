package pantrytest_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest"
	"github.com/small-pantry/pantry/value"
)

// verdict is a test that notes what is found instead of failing.
type verdict struct {
	testing.TB
	found []string
}

func (v *verdict) Errorf(format string, args ...any) {
	v.found = append(v.found, fmt.Sprintf(format, args...))
}
func (v *verdict) Helper() {}

var (
	hour  = pantry.Int("reminder-hour", 18).Between(0, 23)
	c4    = pantry.Int("watered/C4", 0)
	b2    = pantry.Int("watered/B2", 0)
	quiet = pantry.OnProblem(func(pantry.Problem) {})
)

// plotbook is a small app; bugs is what its author got wrong.
type plotbook struct {
	ns   *pantry.Namespace
	bugs string
	seen screen // what an app keeps that does not read where it shows
}

type screen struct{ Hour, C4, B2 int }

func (p *plotbook) has(bug string) bool { return strings.Contains(p.bugs, bug) }

func app(bugs string) pantrytest.App[*plotbook] {
	return pantrytest.App[*plotbook]{
		Launch: func(dir string) (*plotbook, error) {
			ns, err := pantry.Open(dir, "plotbook", quiet, pantry.Declare(hour, c4, b2))
			if err != nil {
				return nil, err
			}
			p := &plotbook{ns: ns, bugs: bugs, seen: screen{hour.In(ns).Get(), c4.In(ns).Get(), b2.In(ns).Get()}}
			if e, found := ns.Entry("reminder-hour"); found && p.has("guard that does nothing") {
				n, _ := e.Value.AsInt()
				p.seen.Hour = int(n)
			}
			if p.has("default written back") {
				err = hour.In(ns).Set(p.seen.Hour)
			}
			return p, err
		},
		Close: func(p *plotbook) error { return p.ns.Close() },
		Shows: func(p *plotbook) any { return p.seen },
		Reset: "reset",
		Actions: []pantrytest.Action[*plotbook]{
			{"set the hour", func(p *plotbook) error {
				p.seen.Hour = 7
				if p.has("forgotten save") {
					return nil
				}
				return hour.In(p.ns).Set(7)
			}},
			{"water C4", func(p *plotbook) (err error) {
				p.seen.C4++
				if p.has("tick that isn't stored") {
					return nil
				}
				_, err = pantry.Add(c4.In(p.ns), 1)
				return err
			}},
			{"water B2", func(p *plotbook) (err error) {
				p.seen.B2++
				under := b2
				if p.has("saved under another's name") {
					under = c4
				}
				_, err = pantry.Add(under.In(p.ns), 1)
				return err
			}},
			{"reset", func(p *plotbook) error {
				if p.has("reset that forgets the new key") {
					p.seen.Hour, p.seen.C4 = 18, 0
					return p.ns.Drop("reminder-hour", "watered/C4")
				}
				p.seen = screen{Hour: 18}
				if p.has("reset of the screen alone") {
					return nil
				}
				return p.ns.Reset()
			}},
		},
	}
}

func TestReopenFinds(t *testing.T) {
	t.Parallel()
	for bug, says := range map[string]string{
		"":                               "",
		"forgotten save":                 "after set the hour the app shows {Hour:7 C4:0 B2:0}; closed and opened again it shows {Hour:18",
		"tick that isn't stored":         "after water C4",
		"saved under another's name":     "after water B2",
		"reset of the screen alone":      "after reset the app shows {Hour:18 C4:0 B2:0}; closed and opened again it shows {Hour:7",
		"reset that forgets the new key": "the reset misses the difference",
	} {
		v := &verdict{TB: t}
		pantrytest.Reopen(v, app(bug))
		if says == "" {
			assert.Empty(t, v.found)
			continue
		}
		require.NotEmpty(t, v.found, bug)
		assert.Contains(t, v.found[0], says, bug)
	}
}

func TestSpoilFinds(t *testing.T) {
	t.Parallel()
	v := &verdict{TB: t}
	pantrytest.Spoil(v, app(""), "plotbook", hour, c4)
	assert.Empty(t, v.found)
	pantrytest.Spoil(v, app("guard that does nothing"), "plotbook", hour)
	require.NotEmpty(t, v.found)
	assert.Contains(t, v.found[0], `with bool true under reminder-hour the app shows {Hour:0 C4:0 B2:0}, and without it {Hour:18`)
	v.found = nil
	pantrytest.Spoil(v, app("default written back"), "plotbook", hour)
	require.NotEmpty(t, v.found)
	assert.Contains(t, v.found[0], "launching the app overwrote it with 18")
}

func TestAssertUsageFinds(t *testing.T) {
	t.Parallel()
	v := &verdict{TB: t}
	p, err := app("saved under another's name").Launch(t.TempDir())
	require.NoError(t, err)
	for _, action := range app("").Actions[:3] {
		require.NoError(t, action.Do(p))
	}
	pantrytest.AssertUsage(v, p.ns, "reminder-hour")
	assert.Equal(t, []string{"the key watered/B2 is declared and was never written"}, v.found)
	require.NoError(t, p.ns.Close())
}

func TestDevice(t *testing.T) {
	t.Parallel()
	d := pantrytest.NewDevice(t)
	prompt, err := pantry.Open(d.Dir(), "plotbook", quiet, pantry.SyncWithin(250_000_000))
	require.NoError(t, err)
	require.NoError(t, hour.In(prompt).Set(7))
	require.NoError(t, prompt.Flush())
	require.NoError(t, hour.In(prompt).Set(8))
	d.Kill()
	assert.Error(t, hour.In(prompt).Set(9), "the process is dead")
	_ = prompt.Close()

	ns, err := pantry.Open(d.Dir(), "plotbook")
	require.NoError(t, err)
	assert.Equal(t, 7, hour.In(ns).Get(), "what was not synced is lost")
	d.Fill()
	assert.ErrorIs(t, hour.In(ns).Set(10), pantry.ErrNotStored)
	assert.Equal(t, 7, hour.In(ns).Get())
	d.Free()
	require.NoError(t, hour.In(ns).Set(11))
	d.Kill()
	_ = ns.Close()
	ns, err = pantry.Open(d.Dir(), "plotbook", pantry.Strict())
	require.NoError(t, err)
	assert.Equal(t, 11, hour.In(ns).Get())
	require.NoError(t, ns.Close())
}

func TestTwiceFinds(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	pantrytest.Twice(t, dir)
	ns, err := pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	outside := 0
	require.NoError(t, ns.Commit(func(b *pantry.Batch) error {
		outside++
		return hour.In(b).Set(hour.In(b).Get() - 1)
	}))
	_, err = c4.In(ns).Update(func(n int) (int, error) { outside++; return n + 1, nil })
	require.NoError(t, err)
	assert.Equal(t, 4, outside, "a side effect shows")
	assert.Equal(t, []int{17, 1}, []int{hour.In(ns).Get(), c4.In(ns).Get()}, "and what is stored is not changed twice")
	e, _ := ns.Entry("watered/C4")
	assert.True(t, value.Equal(value.Int(1), e.Value))
	require.NoError(t, ns.Close())
}
