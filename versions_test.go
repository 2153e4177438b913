package pantry_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/test/soak"
)

// Versions of an app open and use one namespace at random. Each renames the counter of the one before. What
// one of them acknowledged is under the newest name, and nothing is under another.
func TestProgramsOfSeveralVersions(t *testing.T) {
	t.Parallel()
	name := func(version int) string { return fmt.Sprint("tank-", version) }
	var steps []func(*pantry.Batch) error
	for i := range 4 {
		steps = append(steps, func(b *pantry.Batch) error { return b.Rename(name(i), name(i+1)) })
	}
	refused := 0
	for seed := range uint64(soak.Rounds(150, 2000)) {
		rng := rand.New(rand.NewPCG(seed, 29))
		dir := t.TempDir()
		type app struct {
			ns      *pantry.Namespace
			version int
		}
		var apps []app
		newest, sum := 0, 0
		for range 30 {
			if version := rng.IntN(len(steps) + 1); len(apps) == 0 || rng.IntN(4) == 0 {
				ns, err := pantry.Open(dir, "plotbook", pantry.Schema(steps[:version]...), pantry.SyncWithin(time.Hour), pantry.OnProblem(func(pantry.Problem) {}))
				if version < newest {
					require.ErrorIs(t, err, pantry.ErrNewer, "seed %d", seed)
					continue
				}
				require.NoError(t, err, "seed %d", seed)
				apps, newest = append(apps, app{ns, version}), version
				continue
			}
			i := rng.IntN(len(apps))
			a := apps[i]
			if rng.IntN(6) == 0 {
				require.NoError(t, a.ns.Close())
				apps[i] = apps[len(apps)-1]
				apps = apps[:len(apps)-1]
				continue
			}
			tank := pantry.Int(name(a.version), 0).In(a.ns)
			_, err := pantry.Add(tank, 1)
			switch {
			case err == nil:
				sum++
			case errors.Is(err, pantry.ErrNewer):
				refused++
			default:
				require.NoError(t, err, "seed %d", seed)
			}
		}
		for _, a := range apps {
			require.NoError(t, a.ns.Close())
		}
		ns, err := pantry.Open(dir, "plotbook", pantry.Schema(steps...))
		require.NoError(t, err)
		require.Equal(t, sum, pantry.Int(name(len(steps)), 0).In(ns).Get(), "seed %d", seed)
		for i := range steps {
			_, found := ns.Entry(name(i))
			require.False(t, found, "seed %d: something is left under %s", seed, name(i))
		}
		require.NoError(t, ns.Close())
	}
	assert.Positive(t, refused)
}
