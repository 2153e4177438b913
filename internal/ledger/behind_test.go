package ledger

import (
	"fmt"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/value"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLogThatIsBehind(t *testing.T) {
	t.Parallel()
	for name, hold := range map[string]bool{"by itself": false, "held": true} {
		t.Run(name, func(t *testing.T) {
			_, logs, head := begun(t)
			newer, err := logs[0].Append(head, lines(head, true, 2, 3))
			require.NoError(t, err)
			assert.Equal(t, []int64{3, 3}, []int64{newer.Version, newer.Synced})
			if hold {
				require.NoError(t, logs[1].Hold(soon))
				require.NoError(t, logs[1].Hold(soon), "once more is nothing")
			}
			for _, b := range []Batch{lines(head, true, 9), {Wait: soon}} {
				_, err = logs[1].Append(head, b)
				require.ErrorIs(t, err, ErrBehind)
			}
			_, err = logs[1].Rewrite(head, State{Header: *head.Header, Version: head.Version}, soon)
			require.ErrorIs(t, err, ErrBehind)
			busy(t, logs[0], newer)
			im := newImage(false)
			taken, err := logs[1].After(head, im, soon)
			require.NoError(t, err)
			n, _ := im.nodes["n"].Record().Value.AsInt()
			assert.EqualValues(t, 3, n)
			assert.Equal(t, []any{newer.Version, newer.End, newer.Synced, newer.Size}, []any{taken.Version, taken.End, taken.Synced, taken.Size})
			busy(t, logs[0], newer)
			taken, err = logs[1].Append(taken, lines(taken, true, 4))
			require.NoError(t, err)
			busy(t, logs[0], newer)
			logs[1].Release()
			logs[1].Release()
			_, err = logs[0].Append(newer, Batch{Wait: soon})
			require.ErrorIs(t, err, ErrBehind, "and so it is the other that is behind")
			logs[0].Release()
			_, err = logs[1].Append(taken, Batch{Wait: soon})
			require.NoError(t, err, "the lock is free")
			busy := make(chan error, 1)
			go func() { busy <- logs[0].Hold(soon) }()
			require.NoError(t, <-busy)
			logs[0].Release()
		})
	}
}

// A Head that differs from the file's is behind, for any content of the file.
func TestLogNotAtItsHead(t *testing.T) {
	t.Parallel()
	_, logs, head := begun(t)
	for name, other := range map[string]Head{
		"another version":                 {Header: head.Header, Version: head.Version + 1, End: head.End},
		"another commit of the version":   {Header: head.Header, Version: head.Version, End: journal.ParseEnd("00000000")},
		"what is before the first commit": {Header: head.Header},
	} {
		_, err := logs[0].Append(other, lines(other, true, 5))
		assert.ErrorIs(t, err, ErrBehind, name)
		_, err = logs[0].After(other, newImage(false), soon)
		assert.ErrorIs(t, err, ErrReload, name)
		logs[0].Release()
	}
	_, err := logs[0].Append(head, lines(head, true, 5))
	require.NoError(t, err)
}

// Judgements that were made before the lines of others were read are dropped. The group is judged again,
// after those lines.
func TestGroupIsJudgedAgain(t *testing.T) {
	t.Parallel()
	disk, dir := simdisk.New(), t.TempDir()
	l, err := Open(dir, "board", Options{Disk: disk})
	require.NoError(t, err)
	other, err := Open(dir, "board", Options{Disk: disk.Process()})
	require.NoError(t, err)
	runs := 0
	addOne := JudgeFunc(func(tx *Tx) error {
		n, _ := tx.Value("n").AsInt()
		tx.Put("n", Encoded{val: value.Int(n + 1)})
		return nil
	})
	onlyFirst := JudgeFunc(func(tx *Tx) error {
		if runs++; tx.Value("other").IsZero() {
			return value.ErrAbsent
		}
		return nil
	})
	var group []*request
	for _, j := range []Judge{addOne, onlyFirst, addOne, addOne} {
		group = append(group, &request{queuedAt: time.Now(), judge: j})
	}
	_, err = other.Commit(entry.Author{}, func(tx *Tx) error { tx.Put("other", Encoded{val: value.Int(5)}); return nil })
	require.NoError(t, err)
	l.commitGroup(group)
	for _, r := range group {
		assert.NoError(t, r.err)
	}
	assert.Equal(t, 2, runs)
	assert.EqualValues(t, 4, l.Version())
	n, _ := l.Node("n").Record().Value.AsInt()
	assert.EqualValues(t, 3, n)
	require.NoError(t, other.Refresh())
	n, _ = other.Node("n").Record().Value.AsInt()
	assert.EqualValues(t, 3, n)
	require.NoError(t, l.Close())
	require.NoError(t, other.Close())
}

// A log on which others write: what it does first is what they leave it.
type contested struct {
	Log
	first []error
}

func (c *contested) Append(head Head, b Batch) (Head, error) {
	if len(c.first) > 0 {
		err := c.first[0]
		c.first = c.first[1:]
		return head, err
	}
	return c.Log.Append(head, b)
}

// Who tries again, since his time is not over, is done once when it succeeds, and hears of
// what hinders it then.
func TestAgainIsOnce(t *testing.T) {
	t.Parallel()
	l, err := Open(t.TempDir(), "board", Options{})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	full := fmt.Errorf("%w: the disk is full", ErrNotStored)
	for _, c := range []struct {
		first []error
		want  error
	}{
		{[]error{journal.ErrBusy}, nil}, {[]error{journal.ErrBusy, journal.ErrBusy}, nil},
		{[]error{journal.ErrBusy, full}, ErrNotStored}, {[]error{journal.ErrBusy, fmt.Errorf("%w: no answer", ErrUncertain)}, ErrUncertain},
	} {
		l.io.Lock()
		l.log = &contested{l.log, c.first}
		before := l.Version()
		l.io.Unlock()
		judged := 0
		_, err := l.Commit(entry.Author{}, func(tx *Tx) error {
			judged++
			n, _ := tx.Value("n").AsInt()
			enc, err := Encode(value.Int(n + 1))
			tx.Put("n", enc)
			return err
		})
		require.ErrorIs(t, err, c.want)
		assert.Equal(t, len(c.first)+map[bool]int{true: 1, false: 0}[c.want == nil], judged)
		_, err = l.Commit(entry.Author{}, func(*Tx) error { return nil }) // everything that waits is done before
		require.NoError(t, err)
		assert.Equal(t, before+map[bool]int64{true: 1, false: 0}[c.want == nil], l.Version())
	}
}
