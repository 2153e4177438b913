package board

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/internal/wire"
)

// diverges runs random schedules until the client differs from the server, and returns
// that difference. It is empty if the client never differs.
func diverges(t testing.TB, schedules int, broken string) (ran int, wrong string) {
	for seed := range schedules {
		w := newWorld(t, uint64(seed), broken)
		for range 40 {
			w.step()
			if w.rand.IntN(12) == 0 {
				if bad := w.settle(); bad != "" {
					w.stop()
					return seed, fmt.Sprintf("schedule %d: %s\n%s", seed, bad, strings.Join(w.log, "\n"))
				}
			}
		}
		w.stop()
	}
	return schedules, ""
}

// The replica follows the rules for clients, against the real handlers. Answers come late,
// twice, in another order or never, and the board is replaced, yet the client ends with
// what the server has. If any one rule is left out, it does not.
func TestReplicaNeverDiverges(t *testing.T) {
	t.Parallel()
	defer os.RemoveAll(filepath.Join(os.TempDir(), fmt.Sprint("small-pantry-view-", os.Getpid())))
	_, wrong := diverges(t, soak.Rounds(300, 40_000), "")
	require.Empty(t, wrong)
	for _, rule := range []string{"since", "late", "seen", "older", "bind", "half"} {
		ran, wrong := diverges(t, 40_000, rule)
		assert.NotEmpty(t, wrong, "nothing breaks without the rule %q", rule)
		t.Logf("without the rule %q schedule %d diverges", rule, ran)
	}
}

// Memory does not grow with keys that an app writes and never asks for.
func TestReplicaStaysSmall(t *testing.T) {
	t.Parallel()
	v := newReplica()
	page := func(version int) *wire.Page {
		return &wire.Page{
			Board: "b", Version: int64(version), Mark: fmt.Sprintf("%d.5a3f9c10", version), Since: fmt.Sprintf("%d.5a3f9c10", version-1),
			Entries: []entry.Entry{{Name: fmt.Sprint("n", version), Version: int64(version)}},
		}
	}
	for i := range 1000 {
		_, fresh, err := v.take(v.write(), page(i+1))
		require.NoError(t, err)
		require.True(t, fresh)
	}
	assert.Empty(t, v.seen)
	assert.Empty(t, v.entries)
	v.bind("a")
	_, fresh, err := v.take(v.ask(), &wire.Page{Board: "b", Mark: "2000.5a3f9c10", Version: 2000, Whole: true})
	require.NoError(t, err)
	require.True(t, fresh)
	for i := range 1000 { // other clients write in between
		_, _, err := v.take(v.write(), page(2002+2*i))
		require.NoError(t, err)
		require.LessOrEqual(t, len(v.ask().since), mostSeen+1)
	}
	assert.Len(t, v.entries, 1)
	_, _, err = v.take(v.ask(), &wire.Page{Board: "b", Mark: "x"})
	assert.Error(t, err, "an answer without a mark is none")
}
