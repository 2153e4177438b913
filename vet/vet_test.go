package vet_test

import (
	"fmt"
	"go/format"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/analysis/checker"
	"golang.org/x/tools/go/packages"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/small-pantry/pantry/vet"
)

// loaded returns the packages whose import paths match a pattern. All are loaded once, since that takes
// seconds.
var loaded = func() func(t *testing.T, pattern string) []*packages.Package {
	load := sync.OnceValues(func() ([]*packages.Package, error) {
		return packages.Load(&packages.Config{Mode: packages.LoadAllSyntax},
			"./testdata/app/...", "./testdata/evolved", "github.com/small-pantry/pantry/examples/...", "github.com/small-pantry/pantry/internal/cli/demo")
	})
	return func(t *testing.T, pattern string) []*packages.Package {
		t.Helper()
		all, err := load()
		require.NoError(t, err)
		require.Zero(t, packages.PrintErrors(all))
		matches := regexp.MustCompile(pattern)
		some := slices.DeleteFunc(slices.Clone(all), func(p *packages.Package) bool { return !matches.MatchString(p.PkgPath) })
		require.NotEmpty(t, some)
		return some
	}
}()

// found runs the analyzer on packages and returns its reports by file and line.
func found(t *testing.T, pattern string) (reports map[string][]string, graph *checker.Graph) {
	t.Helper()
	graph, err := checker.Analyze([]*analysis.Analyzer{vet.Analyzer}, loaded(t, pattern), nil)
	require.NoError(t, err)
	reports = map[string][]string{}
	for act := range graph.All() {
		require.NoError(t, act.Err)
		if act.Analyzer != vet.Analyzer || !act.IsRoot {
			continue
		}
		for _, d := range act.Diagnostics {
			at := act.Package.Fset.Position(d.Pos)
			line := fmt.Sprintf("%s:%d", filepath.Base(at.Filename), at.Line)
			reports[line] = append(reports[line], d.Message)
		}
	}
	return reports, graph
}

// Every planted mistake is found, and nothing else.
func TestPlantedMistakes(t *testing.T) {
	t.Parallel()
	reports, graph := found(t, `/testdata/app\b`)
	wants := regexp.MustCompile("`([^`]+)`")
	planted := 0
	for _, name := range []string{"main.go", "keys/keys.go"} {
		text, err := os.ReadFile("testdata/app/" + name)
		require.NoError(t, err)
		for i, line := range strings.Split(string(text), "\n") {
			at := fmt.Sprintf("%s:%d", filepath.Base(name), i+1)
			_, want, _ := strings.Cut(line, "// want ")
			for _, m := range wants.FindAllStringSubmatch(want, -1) {
				planted++
				j := slices.IndexFunc(reports[at], func(r string) bool { return regexp.MustCompile(m[1]).MatchString(r) })
				if assert.GreaterOrEqual(t, j, 0, "%s: no report matches %q in %q", at, m[1], reports[at]) {
					reports[at] = slices.Delete(reports[at], j, j+1)
				}
			}
			assert.Empty(t, reports[at], at)
			delete(reports, at)
		}
	}
	assert.Empty(t, reports)
	assert.GreaterOrEqual(t, planted, 12)

	// The suggested fixes make a program that compiles.
	fixed := 0
	for act := range graph.All() {
		for _, d := range act.Diagnostics {
			for _, fix := range d.SuggestedFixes {
				text, err := os.ReadFile(act.Package.Fset.Position(fix.TextEdits[0].Pos).Filename)
				require.NoError(t, err)
				for _, e := range slices.Backward(fix.TextEdits) {
					from, to := act.Package.Fset.Position(e.Pos).Offset, act.Package.Fset.Position(e.End).Offset
					text = slices.Concat(text[:from], e.NewText, text[to:])
				}
				_, err = format.Source(text)
				assert.NoError(t, err, d.Message)
				assert.Regexp(t, `_, err = pantry\.(Add|Append)\(`, string(text))
				fixed++
			}
		}
	}
	assert.Equal(t, 3, fixed)
}

// The examples and the demo of this repository have none of the mistakes.
func TestNoFalseAlarm(t *testing.T) {
	t.Parallel()
	reports, _ := found(t, `/pantry/(examples/|internal/cli/demo$)`)
	assert.Empty(t, reports)
}

// With -against, what a new version would orphan in a file or on a board is reported, and nothing else.
func TestAgainst(t *testing.T) {
	dir := t.TempDir()
	ns, err := pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	type planting struct{ Crop, Title string }
	_, err = pantry.RecordsOf[planting]("plantings").In(ns).Add(planting{"peas", "early"})
	require.NoError(t, err)
	require.NoError(t, pantry.Int("reminder-hour", 18).In(ns).Set(7))
	require.NoError(t, pantry.Text("units", "metric").In(ns).Set("imperial"))
	require.NoError(t, pantry.Text("spacing", "").In(ns).Set("wide"))
	require.NoError(t, pantry.Int("total", 0).In(ns).Set(5)) // a Float key reads it
	require.NoError(t, pantry.Bool("tip-seen", false).In(ns).Set(true))
	require.NoError(t, ns.Close())
	s := boardtest.NewServer(t)
	b, err := board.Join(s.Link("plotbook"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	back, err := pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	require.NoError(t, board.CopyTo(t.Context(), b, back))
	require.NoError(t, back.Close())

	t.Cleanup(func() { assert.NoError(t, vet.Analyzer.Flags.Set("against", "")) })
	for _, where := range []string{filepath.Join(dir, "plotbook.jsonl"), s.Link("plotbook")} {
		require.NoError(t, vet.Analyzer.Flags.Set("against", where))
		reports, _ := found(t, `/testdata/evolved$`)
		all := reports["main.go:2"]
		delete(reports, "main.go:2")
		assert.Empty(t, reports)
		slices.Sort(all)
		assert.Equal(t, []string{
			where + ` holds reminder-hour = 7, which no key of this program declares; if it is "reminder-hours" now, add the schema step RenameKey("reminder-hour", "reminder-hours")`,
			where + ` holds spacing as text, and this program declares it as int: add the schema step ConvertKey("spacing", …)`,
			where + ` holds the member title of plantings/1, and its struct has no such field; add the schema step RenameMember("plantings", "title", NEW), or keep the field`,
			where + ` holds tip-seen = true, which no key of this program declares; add a schema step: RenameKey("tip-seen", NEW) keeps it, DropKey("tip-seen") removes it`,
		}, all)
	}
	require.NoError(t, vet.Analyzer.Flags.Set("against", filepath.Join(dir, "none.jsonl")))
	graph, err := checker.Analyze([]*analysis.Analyzer{vet.Analyzer}, loaded(t, `/testdata/evolved$`), nil)
	require.NoError(t, err)
	assert.ErrorContains(t, graph.Roots[0].Err, "none.jsonl")
}
