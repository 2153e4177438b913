package ledger

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
)

// After Forget, the mark of the newest commit is the one in the file, so that it is the same for the next
// program that opens the file.
func TestMarksAfterForgetting(t *testing.T) {
	t.Parallel()
	for name, newest := range map[string]func(l *Ledger) error{
		"set alone":      func(l *Ledger) error { return put(l, "n", 5) },
		"set by another": func(l *Ledger) error { return put(l, "other", 5) },
		"dropped": func(l *Ledger) error {
			_, err := l.Commit(entry.Author{}, func(tx *Tx) error { tx.Drop("n"); return nil })
			return err
		},
		"set with another": func(l *Ledger) error {
			_, err := l.Commit(entry.Author{}, func(tx *Tx) error {
				tx.Put("n", Encoded{val: value.Int(6)})
				tx.Put("other", Encoded{val: value.Int(7)})
				return nil
			})
			return err
		},
	} {
		disk, dir := simdisk.New(), t.TempDir()
		l, err := Open(dir, "board", Options{Disk: disk, Marks: 10})
		require.NoError(t, err)
		for n := range int64(4) {
			require.NoError(t, put(l, "n", n))
		}
		require.NoError(t, newest(l))
		before, known := l.CommitAt(l.Version())
		require.True(t, known)
		require.NoError(t, l.Forget("n"))
		after, known := l.CommitAt(l.Version())
		require.True(t, known, name)
		assert.NotEqual(t, before.ID, after.ID)
		_, known = l.CommitAt(l.Version() - 1)
		assert.False(t, known, "from here on only")
		require.NoError(t, l.Close())
		again, err := Open(dir, "board", Options{Disk: disk, Marks: 10})
		require.NoError(t, err)
		now, known := again.CommitAt(again.Version())
		assert.Equal(t, []any{after, true}, []any{now, known}, name)
		require.NoError(t, again.Close())
	}
}
