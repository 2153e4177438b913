package pantry_test

import (
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/pantrytest"
)

// The app of the first version, and of the second.
type plantingV1 struct {
	Title   string
	Spacing string
}

type plantingV2 struct {
	Heading   string
	SpacingCm int `pantry:"spacing-cm"`
}

var (
	hourV1      = pantry.Int("hour", 18)
	spacingV1   = pantry.Text("spacing", "30 cm")
	tipV1       = pantry.Bool("tip-seen", false)
	plantingsV1 = pantry.RecordsOf[plantingV1]("plantings")
	hourV2      = pantry.Int("reminder-hour", 18)
	spacingV2   = pantry.Int("spacing", 30)
	plantingsV2 = pantry.RecordsOf[plantingV2]("plantings")
)

func cm(s string) (int, error) { return strconv.Atoi(strings.TrimSuffix(s, " cm")) }

// toV2 is the step from the first version to the second.
func toV2() pantry.Option {
	return pantry.Schema(func(b *pantry.Batch) error {
		for _, step := range []func(*pantry.Batch) error{
			pantry.RenameKey("hour", "reminder-hour"),
			pantry.ConvertKey("spacing", cm),
			pantry.ConvertRecords("plantings", func(old plantingV1) (plantingV2, error) {
				n, err := cm(old.Spacing)
				return plantingV2{old.Title, n}, err
			}),
			pantry.DropKey("tip-seen"),
		} {
			if err := step(b); err != nil {
				return err
			}
		}
		return nil
	})
}

// saved returns the file that the first version has written.
func saved(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	ns := open(t, dir, pantry.Declare(hourV1, spacingV1, tipV1, plantingsV1))
	require.NoError(t, hourV1.In(ns).Set(7))
	require.NoError(t, spacingV1.In(ns).Set("45 cm"))
	require.NoError(t, tipV1.In(ns).Set(true))
	for _, p := range []plantingV1{{"beans", "10 cm"}, {"peas", "5 cm"}} {
		_, err := plantingsV1.In(ns).Add(p)
		require.NoError(t, err)
	}
	require.NoError(t, ns.Close())
	return ns.Path()
}

// A saved file of the first version has everything in the second, and Migrate says what became of it.
func TestMigrate(t *testing.T) {
	t.Parallel()
	moved := pantrytest.Migrate(t, saved(t), toV2(), pantry.Declare(hourV2, spacingV2, plantingsV2))
	var lines []string
	for _, m := range moved {
		lines = append(lines, m.String())
	}
	assert.Equal(t, []string{
		"hour: renamed to reminder-hour",
		"plantings: unchanged",
		`plantings/1: {"spacing":"10 cm","title":"beans"} is now {"heading":"beans","spacing-cm":10}`,
		`plantings/2: {"spacing":"5 cm","title":"peas"} is now {"heading":"peas","spacing-cm":5}`,
		"spacing: 45 cm is now 45",
		"tip-seen: removed",
	}, lines)
}

// Without the steps, everything that no key reads any more is named, with the step that keeps it.
func TestOrphansAreNamed(t *testing.T) {
	t.Parallel()
	var problems []string
	ns, err := pantry.Open(filepath.Dir(saved(t)), "plotbook", pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }),
		pantry.Declare(hourV2, spacingV1, plantingsV2))
	require.NoError(t, err)
	all := strings.Join(problems, "\n")
	assert.Contains(t, all, `RenameKey("hour", "reminder-hour")`)
	assert.Contains(t, all, `has the member "title"`)
	assert.Contains(t, all, `RenameMember("plantings", "title", `)
	assert.Equal(t, 1, strings.Count(all, `"hour" is stored`), "each is named once")
	require.NoError(t, ns.Close())
}

// A step that fails leaves the file as it was, and Open says why.
func TestStepsThatFail(t *testing.T) {
	t.Parallel()
	path := saved(t)
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	for says, step := range map[string]func(*pantry.Batch) error{
		"convert spacing: no such unit": pantry.ConvertKey("spacing", func(string) (int, error) { return 0, errors.New("no such unit") }),
		"spacing holds text":            pantry.ConvertKey("spacing", func(bool) (int, error) { return 0, nil }),
		"exists already":                pantry.RenameKey("hour", "spacing"),
		"has both the members":          pantry.RenameMember("plantings", "title", "spacing"),
	} {
		_, err := pantry.Open(filepath.Dir(path), "plotbook", quiet, pantry.Schema(step))
		assert.ErrorContains(t, err, says)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(before), string(after), says)
	}
	ns := open(t, filepath.Dir(path), pantry.Schema(pantry.RenameMember("plantings", "title", "heading"), pantry.RenameKey("plantings", "rows"), pantry.ConvertKey("absent", cm)))
	e, found := ns.Entry("rows/1")
	require.True(t, found)
	assert.Equal(t, `{"heading":"beans","spacing":"10 cm"}`, e.Value.String())
}

// The older version of an app, started again after the newer one, changes nothing.
func TestVersionsInAnyOrder(t *testing.T) {
	t.Parallel()
	pantrytest.Versions(t, func(dir string) error {
		ns, err := pantry.Open(dir, "plotbook", quiet, pantry.Declare(hourV1))
		if err != nil {
			return err
		}
		return errors.Join(hourV1.In(ns).Set(7), ns.Close())
	}, func(dir string) error {
		ns, err := pantry.Open(dir, "plotbook", quiet, pantry.Schema(pantry.RenameKey("hour", "reminder-hour")), pantry.Declare(hourV2))
		if err != nil {
			return err
		}
		return errors.Join(hourV2.In(ns).Set(8), ns.Close())
	})
}

// A beginner's program without Declare gets a problem for each mistake, once.
func TestFirstUseFinds(t *testing.T) {
	t.Parallel()
	var problems []string
	ns, err := pantry.Open(t.TempDir(), "plotbook", pantry.OnProblem(func(p pantry.Problem) { problems = append(problems, p.Err.Error()) }))
	require.NoError(t, err)
	defer ns.Close()
	type note struct {
		Text string
		seen bool
	}
	_ = note{}.seen
	for range 3 {
		pantry.Int("count", 0).In(ns).Get()
		pantry.Int("count", 5).In(ns).Get() // a copied line
		pantry.Object("note", note{}).In(ns).Get()
		pantry.Text("cloud-password", "").In(ns).Get()
		_, _, _ = pantry.Text("gate/code", "").Sealed().In(ns).Lookup()
	}
	for i, want := range []string{"two keys have the name \"count\"", "seen of pantry_test.note does not survive", "suggests a secret", "Open has no option Seal"} {
		require.Greater(t, len(problems), i, problems)
		assert.Contains(t, problems[i], want)
	}
	assert.LessOrEqual(t, len(problems), 5)
}
