package pantry_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
)

// Whole namespaces are listed, and deleted as at log-out: nothing of what was in
// one is left in the directory, and the others are as they were.
func TestNamespacesAndDelete(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, err := pantry.Namespaces(filepath.Join(dir, "nowhere"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	names, err := pantry.Namespaces(dir)
	require.NoError(t, err)
	assert.Empty(t, names)
	for _, name := range []string{"plotbook", "a", "a.b", "a-b", "a.cut-3", "plotbook.damaged-2"} {
		other, err := pantry.Open(dir, name, quiet, pantry.Declare(plot), pantry.NoteUsage())
		require.NoError(t, err)
		require.NoError(t, plot.In(other).Set("rhubarb"))
		require.NoError(t, other.Close())
	}
	for name, text := range map[string]string{"shopping.jsonl": "{\"name\":\"a\",\"kind\":\"int\",\"value\":1}\n", "empty.jsonl": "", "notes.txt": "x", "Big.jsonl": "x", "plotbook.cut-7": "rhubarb", "plotbook.damaged-20260503T091244.123Z": "rhubarb"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	names, err = pantry.Namespaces(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "a-b", "a.b", "a.cut-3", "plotbook", "plotbook.damaged-2"}, names, "no export, nothing empty, no other file")

	ns, err := pantry.Open(dir, "plotbook", pantry.ReadOnly())
	require.NoError(t, err)
	assert.ErrorIs(t, pantry.Delete(dir, "plotbook"), pantry.ErrBusy, "it is open")
	require.NoError(t, ns.Close())
	ns, err = pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	assert.ErrorIs(t, pantry.Delete(dir, "plotbook"), pantry.ErrBusy)
	require.NoError(t, ns.Close())
	require.NoError(t, pantry.Delete(dir, "plotbook"))
	require.NoError(t, pantry.Delete(dir, "a"))
	names, err = pantry.Namespaces(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"a-b", "a.b", "a.cut-3", "plotbook.damaged-2"}, names)
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	left := map[string]bool{}
	for _, f := range files {
		left[f.Name()] = true
	}
	for _, gone := range []string{"plotbook.jsonl", "plotbook.cut-7", "plotbook.damaged-20260503T091244.123Z", ".plotbook.usage", ".plotbook.new", "a.jsonl", ".a.usage"} {
		assert.False(t, left[gone], gone)
	}
	for _, kept := range []string{"notes.txt", "shopping.jsonl", ".plotbook.lock", "plotbook.damaged-2.jsonl", ".a.b.usage"} {
		assert.True(t, left[kept], kept)
	}
	assert.ErrorIs(t, pantry.Delete(dir, "plotbook"), os.ErrNotExist)
	assert.ErrorIs(t, pantry.Delete(dir, "../x"), pantry.ErrInvalid)
	ns, err = pantry.Open(dir, "plotbook", quiet)
	require.NoError(t, err)
	assert.Equal(t, []any{"none", int64(0)}, []any{plot.In(ns).Get(), ns.Version()}, "it begins again")
	require.NoError(t, ns.Close())
}

// Open beside Delete finds the namespace either whole or new.
func TestDeleteWhileOthersOpen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	done := make(chan struct{})
	go func() {
		defer close(done)
		for end := time.Now().Add(200 * time.Millisecond); time.Now().Before(end); {
			err := pantry.Delete(dir, "plotbook")
			if err != nil && !assert.True(t, isOneOf(err, pantry.ErrBusy, os.ErrNotExist), "%v", err) {
				return
			}
		}
	}()
	for running := true; running; {
		select {
		case <-done:
			running = false
		default:
		}
		ns, err := pantry.Open(dir, "plotbook", quiet)
		require.NoError(t, err)
		before := plot.In(ns).Get()
		assert.Contains(t, []string{"none", "C4"}, before)
		require.NoError(t, plot.In(ns).Set("C4"))
		require.NoError(t, ns.Close())
	}
}

func isOneOf(err error, all ...error) bool {
	for _, one := range all {
		if errors.Is(err, one) {
			return true
		}
	}
	return false
}
