package ledger_test

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/value"
)

// A program adds to a counter of its own, and to one that all share, on a disk
// that other programs write to at the same time. It meets faults of its own, dies,
// and is started again.
type program struct {
	dir, name string
	rng       *rand.Rand

	own, shared count
	beside      count // its own too, to which another goroutine of it adds
	prompt      count // its own too; acknowledged means flushed
	floor       int64 // of the shared counter: what a Set of the stored value has confirmed
	erased      bool  // a commit that erases its secret was acknowledged, and it was not written since
	lives, met  int   // how often it was started, and how many faults it met
}

// A count is what is known of a counter: what was acknowledged is in it, and
// more than was tried is not.
type count struct {
	acked, tried int64
	done         int64 // in prompt mode: what calls have returned nil for, and so is visible
}

// faults meets one now and then, and none while it gets over the last.
func (p *program) faults() func(op, path string) error {
	rng := rand.New(rand.NewPCG(p.rng.Uint64(), 0)) // of the goroutine that comes
	quiet, dies := 20+rng.IntN(30), rng.IntN(3) == 0
	return func(op, _ string) error {
		if quiet--; quiet > 0 || rng.IntN(15) > 0 {
			return nil
		}
		quiet = 60
		p.met++
		switch {
		case dies:
			return simdisk.ErrDead
		case op == "sync" || op == "write":
			return []error{syscall.EIO, syscall.ENOSPC}[rng.IntN(2)]
		}
		return syscall.EIO
	}
}

// slowReads is a disk that takes its time to read now and then, in which others write: as
// long as a compaction of a large file does.
type slowReads struct{ *simdisk.Disk }

func (d slowReads) OpenFile(path string, flag int, perm fs.FileMode) (journal.Handle, error) {
	h, err := d.Disk.OpenFile(path, flag, perm)
	if err != nil {
		return nil, err
	}
	return slowHandle{h}, nil
}

type slowHandle struct{ journal.Handle }

func (h slowHandle) ReadAt(p []byte, off int64) (int, error) {
	if rand.IntN(4) == 0 {
		time.Sleep(time.Duration(rand.IntN(500)) * time.Microsecond) // a slow disk
	}
	return h.Handle.ReadAt(p, off)
}

// live runs the program once on a disk of its machine, and says what went wrong.
func (p *program) live(disk *simdisk.Disk) error {
	p.lives++
	var mu sync.Mutex // guards wrong
	var wrong []error
	note := func(err error) {
		mu.Lock()
		defer mu.Unlock()
		if errors.As(err, new(*ledger.Damage)) {
			wrong = append(wrong, fmt.Errorf("nothing is ever damaged: %w", err))
		}
	}
	disk.Fault(p.faults())
	l, err := ledger.Open(p.dir, "board", ledger.Options{Disk: slowReads{disk}, Salvage: true, Small: 1, Kept: 5, KeptBytes: 400 << p.rng.IntN(4), Wait: time.Minute, Problem: note})
	if err != nil {
		if _, damaged := journal.AsDamage(err); damaged {
			return err
		}
		return nil // the next time, then
	}
	// No other process writes to its own counters, so each number in them was acknowledged. One whose answer
	// was lost is found here.
	for _, c := range p.counters() {
		has := get(l, c.name)
		if has < c.acked || has > c.tried {
			wrong = append(wrong, fmt.Errorf("life %d of %s: %d is there, of %d that were acknowledged and %d tried", p.lives, c.name, has, c.acked, c.tried))
		}
		*c.count = count{has, has, has}
	}
	wrong = append(wrong, p.checkSecret(l, disk)...)
	var beside sync.WaitGroup
	beside.Go(func() {
		for range 40 {
			p.beside.add(l, p.name+"-beside")
		}
	})
	for range 5 + p.rng.IntN(25) {
		switch p.rng.IntN(21) {
		case 12:
			p.keepASecret(l, func(tx *ledger.Tx) { tx.Drop(p.secret()); tx.Owe(p.secret()) })
		case 13:
			p.keepASecret(l, func(tx *ledger.Tx) { tx.Put(p.secret(), sealedValue) })
		case 14:
			p.confirm(l)
		case 15:
			p.prompt.addPrompt(l, p.name+"-prompt")
		case 16:
			p.prompt.flush(l)
		case 18, 19, 20:
			p.reorder(l)
		case 17:
			_, _ = l.Commit(entry.Author{}, func(tx *ledger.Tx) error { tx.SetSchema(tx.Schema() + 1); return nil })
		case 0:
			_ = l.Refresh()
		case 1:
			_ = l.Forget()
		case 2:
			_, _ = l.History(3)
		case 3, 4, 5:
			p.shared.add(l, "all")
		default:
			p.own.add(l, p.name)
		}
		if n := get(l, p.name); n < p.own.acked || n > p.own.tried {
			wrong = append(wrong, fmt.Errorf("life %d of %s: %d is shown, of %d that were acknowledged and %d tried", p.lives, p.name, n, p.own.acked, p.own.tried))
		}
	}
	beside.Wait()
	wrong = append(wrong, p.checkSecret(l, disk)...)
	if l.Close() == nil { // it may be dead
		p.prompt.acked = p.prompt.done
	}
	return errors.Join(wrong...)
}

// checkSecret returns an error if an erased secret is in the file, unless the ledger knows that.
func (p *program) checkSecret(l *ledger.Ledger, disk *simdisk.Disk) []error {
	if !p.erased || l.Owed() != "" {
		return nil
	}
	if file := disk.Read(l.Path()); strings.Contains(string(file), p.plain()) {
		return []error{fmt.Errorf("life %d of %s: the erased secret is in the file:\n%s", p.lives, p.name, file)}
	}
	return nil
}

// confirm sets the shared counter to its stored value, which makes that value durable.
func (p *program) confirm(l *ledger.Ledger) {
	var have int64
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error {
		have, _ = tx.Record("all").Value.AsInt()
		if have == 0 {
			return nil
		}
		enc, err := ledger.Encode(value.Int(have))
		tx.Put("all", enc)
		return err
	})
	if err == nil {
		p.floor = max(p.floor, have)
	}
}

// counters are those that are its own.
func (p *program) counters() []counter {
	return []counter{{p.name, &p.own}, {p.name + "-beside", &p.beside}, {p.name + "-prompt", &p.prompt}}
}

type counter struct {
	name string
	*count
}

func (p *program) secret() string { return "secret-of-" + p.name }
func (p *program) plain() string  { return "rhubarb-of-" + p.name }

var sealedValue = func() ledger.Encoded {
	enc, err := ledger.Encode(value.Sealed([]byte("sealed")))
	if err != nil {
		panic(err)
	}
	return enc
}()

// keepASecret writes a secret, and commits a change that erases it.
func (p *program) keepASecret(l *ledger.Ledger, erase func(tx *ledger.Tx)) {
	p.erased = false
	if put(l, p.secret(), value.Text(p.plain())) != nil {
		return
	}
	_, err := l.Commit(entry.Author{}, func(tx *ledger.Tx) error { erase(tx); return nil })
	p.erased = err == nil
}

// reorder drops a record and creates it again, which moves it to the end of the order, and then sets
// it a few times.
func (p *program) reorder(l *ledger.Ledger) {
	name := fmt.Sprint("record/", p.rng.IntN(2))
	_ = drop(l, name)
	for range p.rng.IntN(6) {
		_ = put(l, name, value.Int(p.rng.Int64()))
	}
}

// order returns since when each name has held a value, which is the order of records.
func order(l *ledger.Ledger) map[string]int64 {
	firsts := map[string]int64{}
	s := l.Snapshot()
	defer s.Release()
	for e := range s.Entries("", "") {
		firsts[e.Name] = e.First
	}
	return firsts
}

// addPrompt adds one in prompt mode.
func (c *count) addPrompt(l *ledger.Ledger, name string) {
	c.tried++
	_, err := l.CommitWithin(time.Hour, entry.Author{}, ledger.JudgeFunc(func(tx *ledger.Tx) error {
		n, _ := tx.Record(name).Value.AsInt()
		enc, err := ledger.Encode(value.Int(n + 1))
		tx.Put(name, enc)
		return err
	}))
	switch {
	case err == nil:
		c.done = c.done + 1
	case errors.Is(err, ledger.ErrNotStored) && !errors.Is(err, simdisk.ErrDead), errors.Is(err, journal.ErrBusy):
		c.tried--
	}
}

// flush makes the prompt additions durable.
func (c *count) flush(l *ledger.Ledger) {
	if l.Flush() == nil {
		c.acked = c.done
	}
}

// add adds one. What is said to be certainly not stored was not tried.
func (c *count) add(l *ledger.Ledger, name string) {
	c.tried++
	_, err := addOne(l, name)
	switch {
	case err == nil:
		c.acked++
	case errors.Is(err, ledger.ErrNotStored) && !errors.Is(err, simdisk.ErrDead), errors.Is(err, journal.ErrBusy):
		c.tried--
	}
}

// Several programs write to one file, each with faults of its own, and at the end
// the power is cut: what was acknowledged is there, what was certainly not stored
// is not, what was forgotten is nowhere in the file, and nothing is called damaged.
func TestProgramsWithFaults(t *testing.T) {
	t.Parallel()
	end := time.Now().Add(soak.For(time.Second, 30*time.Minute))
	seed := uint64(time.Now().UnixNano())
	cuts, lives, met := 0, 0, 0
	var commits int64
	for ; time.Now().Before(end); cuts++ {
		dir := t.TempDir()
		rng := rand.New(rand.NewPCG(seed, uint64(cuts)))
		disk := simdisk.New()
		var programs []*program
		for i := range 2 + rng.IntN(2) {
			programs = append(programs, &program{dir: dir, name: fmt.Sprint("n", i), rng: rand.New(rand.NewPCG(seed+uint64(i)+1, uint64(cuts)))})
		}
		for range 3 {
			observer, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Process(), Problem: func(error) {}})
			require.NoError(t, err)
			stop, stopped := make(chan struct{}), make(chan struct{})
			go func() {
				defer close(stopped)
				for {
					select {
					case <-stop:
						return
					default:
						_ = observer.Refresh()
						time.Sleep(50 * time.Microsecond)
					}
				}
			}()
			var all sync.WaitGroup
			for _, p := range programs {
				all.Go(func() {
					for range 3 {
						assert.NoError(t, p.live(disk.Process()), "seed %d, cut %d", seed, cuts)
					}
				})
			}
			all.Wait()
			close(stop)
			<-stopped
			if observer.Refresh() != nil { // a program died in the middle of a sync; a write mends that
				require.NoError(t, put(observer, "mended", value.Int(int64(cuts))))
			}
			fresh, err := ledger.Open(dir, "board", ledger.Options{Disk: disk.Process(), ReadOnly: true})
			require.NoError(t, err)
			require.Equal(t, order(fresh), order(observer), "seed %d, cut %d", seed, cuts)
			require.NoError(t, errors.Join(fresh.Close(), observer.Close()))
			disk = disk.PowerCut(rng, 64)
			l, err := ledger.Open(dir, "board", ledger.Options{Disk: disk, Problem: func(error) {}})
			require.NoError(t, err, "seed %d, cut %d", seed, cuts)
			var shared, every count
			for _, p := range programs {
				for _, c := range p.counters() {
					n := get(l, c.name)
					assert.GreaterOrEqual(t, n, c.acked, "%s, seed %d, cut %d", c.name, seed, cuts)
					assert.LessOrEqual(t, n, c.tried, "%s, seed %d, cut %d", c.name, seed, cuts)
					*c.count = count{n, n, n}
					every.acked += n
				}
				assert.GreaterOrEqual(t, get(l, "all"), p.floor, "seed %d, cut %d", seed, cuts)
				p.floor = 0
				shared.acked += p.shared.acked
				shared.tried += p.shared.tried
			}
			n := get(l, "all")
			assert.GreaterOrEqual(t, n, shared.acked, "seed %d, cut %d", seed, cuts)
			assert.LessOrEqual(t, n, shared.tried, "seed %d, cut %d", seed, cuts)
			assert.GreaterOrEqual(t, l.Version(), every.acked+n, "each addition has a version: seed %d, cut %d", seed, cuts)
			commits += l.Version()
			require.NoError(t, put(l, "after", value.Int(int64(cuts))))
			assert.Empty(t, l.Owed(), "what is owed is done as soon as nothing fails: seed %d, cut %d", seed, cuts)
			for _, p := range programs {
				if p.erased {
					assert.False(t, strings.Contains(string(disk.Read(l.Path())), p.plain()), "seed %d, cut %d", seed, cuts)
				}
			}
			require.NoError(t, l.Close())
			require.False(t, t.Failed())
		}
		for _, p := range programs {
			lives, met = lives+p.lives, met+p.met
		}
	}
	t.Logf("%d machines, %d lives of programs, %d faults, %d commits", cuts, lives, met, commits)
	assert.Positive(t, met)
}
