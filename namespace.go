package pantry

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/hooks"
)

// A Namespace holds the entries of one app on this device, in one file. Open reads all of it into
// memory, so reading never waits. It is safe for concurrent use. Several processes can have the
// same file open.
type Namespace struct {
	l           *ledger.Ledger
	name        string
	readOnly    bool
	within      time.Duration // above 0, commits are prompt
	author      entry.Author
	twice       bool        // for tests: see package hooks
	migrated    bool        // Open ran steps of the schema
	schema      int64       // the schema steps that this program knows; -1 means any
	older       atomic.Bool // a newer program has migrated the file; it was reported
	prob        *problems
	listener    *ledger.Listener
	sealer      Sealer
	limits      limits
	declaration *declaration        // nil: nothing was declared
	undeclared  sync.Map            // names that were used without a declaration
	used        sync.Map            // name → usedKey
	differ      sync.Map            // names of two keys that were reported
	large       sync.Map            // names whose values were reported as large
	noteUsage   func(ns *Namespace) // nil without NoteUsage: an app without an option carries no code of it
	noted       bool                // this run is counted; l's lock guards it
	closed      atomic.Bool
	done        chan struct{}
}

// Local is a place for keys on a device: a *Namespace, or a *Batch while its Commit runs.
type Local interface {
	namespace() *Namespace
	batch() *Batch
}

func (ns *Namespace) namespace() *Namespace {
	if ns == nil || ns.l == nil {
		misuse("a nil or zero Namespace was used; get one from Open and check its error")
	}
	return ns
}

func (ns *Namespace) batch() *Batch { return nil }

// Open opens the namespace called name in the directory dir. AppDir returns such a directory. Open
// creates both if they don't exist: the directory with mode 0700, the file DIR/NAME.jsonl with mode
// 0600. name has 1 to 64 of the characters a-z 0-9 . _ - and starts with a letter or a digit.
//
// When Open returns, all entries are in memory. A process can open the same file twice; both
// namespaces then have the same entries.
//
// The errors are ErrInvalid for a bad name and for two declared keys of one name; ErrBusy if
// another process holds the file's lock for 5 s; ErrDamaged with Strict; ErrNewer;
// fs.ErrPermission, also if a user other than the directory's owner would create a file; errors of
// the file system; and with ReadOnly fs.ErrNotExist.
func Open(dir, name string, opts ...Option) (*Namespace, error) {
	var o options
	for _, opt := range opts {
		opt(&o)
	}
	if o.follow <= 0 {
		o.follow = defaultFollow
	}
	ns := &Namespace{
		name: name, readOnly: o.readOnly, prob: newProblems(name, o.onProblem), done: make(chan struct{}),
		sealer: o.sealer, limits: o.limits, within: min(o.within, longestWithin), noteUsage: o.noteUsage,
		author: entry.Author{By: o.as},
	}
	var err error
	if o.newDeclaration != nil {
		if ns.declaration, err = o.newDeclaration(o.declared); err != nil {
			return nil, ns.fail("open", "", err)
		}
	}
	start := time.Now()
	if err := CheckNamespace(name); err != nil {
		return nil, ns.fail("open", "", err)
	}
	if err := ns.author.Check(); err != nil {
		return nil, ns.fail("open", "", err)
	}
	ns.listener = &ledger.Listener{Problem: func(err error) { ns.prob.report("", nil, asReport(err)) }}
	special := hooks.Of(dir)
	ns.twice = special.Twice
	l, err := ledger.Open(dir, name, ledger.Options{
		ReadOnly: o.readOnly,
		Follow:   o.follow,
		Schema:   int64(len(o.steps)),
		Salvage:  !o.strict,
		Disk:     special.Disk,
		Twice:    special.Twice,
		Listener: ns.listener,
	})
	if err != nil {
		return nil, ns.fail("open", "", err)
	}
	ns.l = l
	if ns.schema = int64(len(o.steps)); o.anySchema && len(o.steps) == 0 {
		ns.schema = -1
	}
	ns.reportFile(dir, time.Since(start))
	if err = ns.migrate(o.steps, o.anySchema); err == nil && o.declare != nil {
		err = o.declare(ns)
	}
	if err != nil {
		return nil, errors.Join(ns.fail("open", "", err), ns.Close())
	}
	return ns, nil
}

// reportFile reports what is wrong with the place and the size of the file, which took so long to load.
func (ns *Namespace) reportFile(dir string, took time.Duration) {
	if fs := journal.Network(dir); fs != "" {
		ns.prob.report("", nil, fmt.Errorf("%s is on a %s file system, where locks and syncs can fail silently; keep it on a local disk", ns.l.Path(), fs))
	}
	if err := ns.l.MayReplace(); err != nil && !ns.readOnly {
		ns.prob.report("", nil, err)
	}
	if info, err := os.Stat(ns.l.Path()); err == nil && info.Size() > largeFile {
		ns.prob.report("", nil, fmt.Errorf("%w: the file has %.1f MiB and took %d ms to load; keep large data in separate files",
			ErrTooLarge, float64(info.Size())/(1<<20), took.Milliseconds()))
	}
}

// migrate runs the steps of the schema that the file has not had.
func (ns *Namespace) migrate(steps []func(*Batch) error, any bool) error {
	had := ns.l.Schema()
	switch {
	case any && len(steps) == 0:
		return nil
	case had > int64(len(steps)):
		return newerSchema(had, len(steps))
	case had == int64(len(steps)):
		return nil
	case ns.readOnly:
		ns.prob.report("", nil, fmt.Errorf("%w: the file has had %d of %d schema steps, and can't be changed", ErrReadOnly, had, len(steps)))
		return nil
	}
	_, err := ns.commit(func(tx *ledger.Tx) error {
		// Another process can have migrated the file meanwhile, and know more steps.
		if tx.Schema() > int64(len(steps)) {
			return newerSchema(tx.Schema(), len(steps))
		}
		missing := steps[min(tx.Schema(), int64(len(steps))):]
		b, err := ns.run(func(b *Batch) error {
			for i, step := range missing {
				if err := step(b); err != nil {
					return fmt.Errorf("schema step %d: %w", len(steps)-len(missing)+i+1, err)
				}
			}
			return nil
		}, inTx(tx))
		if err != nil {
			return err
		}
		tx.SetSchema(int64(len(steps)))
		return b.apply(tx)
	})
	ns.migrated = err == nil
	return err
}

func newerSchema(had int64, known int) error {
	return fmt.Errorf("%w: the file has had %d schema steps, and this program knows %d; use the newer version of the app", ErrNewer, had, known)
}

// CheckNamespace returns an error if name can't be the name of a namespace: see Open.
func CheckNamespace(name string) error { return journal.CheckName(name) }

// fail wraps err in an *Error of this namespace.
func (ns *Namespace) fail(op, name string, err error) error {
	return wrap(op, ns.name, name, err)
}

// Name returns the namespace's name.
func (ns *Namespace) Name() string { return ns.namespace().name }

// Path returns the path of the data file.
func (ns *Namespace) Path() string { return ns.namespace().l.Path() }

// Version returns the number of commits that the namespace has had.
func (ns *Namespace) Version() int64 { return ns.namespace().l.Version() }

// Problems returns the newest 100 problems, oldest first.
func (ns *Namespace) Problems() []Problem { return ns.namespace().prob.all() }

// Refresh makes changes of other processes visible. A write does the same, and so does a waiting
// Watch.
func (ns *Namespace) Refresh() error {
	if ns.namespace().closed.Load() {
		return ns.fail("refresh", "", ErrClosed)
	}
	return ns.fail("refresh", "", ns.l.Refresh())
}

// Close ends every Watch, syncs prompt writes and closes the file. Everything written before is
// then on disk. After Close, Get returns the last values and writes return ErrClosed. A second
// Close returns nil.
func (ns *Namespace) Close() error {
	if !ns.namespace().closed.CompareAndSwap(false, true) {
		return nil
	}
	close(ns.done)
	if ns.noteUsage != nil {
		ns.noteUsage(ns)
	}
	defer ns.l.Leave(ns.listener)
	// Another Namespace can still use the file.
	return ns.fail("close", "", errors.Join(ns.l.Flush(), ns.l.Close()))
}

// commit is the only way this namespace writes.
func (ns *Namespace) commit(judge func(*ledger.Tx) error) (ledger.Result, error) {
	if err := ns.mayWrite(); err != nil {
		return ledger.Result{}, err
	}
	return ns.l.CommitWithin(ns.within, ns.author, ledger.JudgeFunc(func(tx *ledger.Tx) error {
		if err := ns.checkSchema(tx); err != nil {
			return err
		}
		return judge(tx)
	}))
}

// checkSchema returns an error if a newer program has migrated the file, which can happen at any
// time. What this program wrote under an old name, no program would read.
func (ns *Namespace) checkSchema(tx *ledger.Tx) error {
	had := tx.Schema()
	if ns.schema < 0 || had <= ns.schema {
		return nil
	}
	err := newerSchema(had, int(ns.schema))
	if ns.older.CompareAndSwap(false, true) {
		ns.prob.report("", nil, err)
	}
	return err
}

// erased returns an error if a commit had to erase old values and that has failed so far.
func erased(result ledger.Result, err error) error {
	if err == nil {
		err = result.Duty
	}
	return err
}

// mayWrite returns the reason why this namespace can't write. The ledger can be shared with a
// namespace that can.
func (ns *Namespace) mayWrite() error {
	switch {
	case ns.closed.Load():
		return ErrClosed
	case ns.readOnly:
		return ErrReadOnly
	}
	return nil
}

// Flush syncs prompt writes to the disk (see SyncWithin). When it returns nil, a power cut does not
// undo any earlier write. The errors are those of Var.Set.
func (ns *Namespace) Flush() error {
	if ns.namespace().closed.Load() {
		return ns.fail("flush", "", ErrClosed)
	}
	if ns.noteUsage != nil {
		ns.noteUsage(ns)
	}
	return ns.fail("flush", "", ns.l.Flush())
}

// Reset removes every entry of any name and kind. Every key is then at its default. The
// declared keys and the number of schema steps stay. When Reset returns nil, the file holds nothing
// of the old entries, their history included. The errors are those of Var.Set. If the entries were
// removed and the file could not be rewritten, the error says so.
func (ns *Namespace) Reset() error {
	err := erased(ns.namespace().commit(func(tx *ledger.Tx) error {
		for _, name := range tx.Names() {
			tx.Drop(name)
		}
		tx.OweAll()
		return nil
	}))
	return ns.fail("reset", "", err)
}
