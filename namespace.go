package pantry

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/value"
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
	if fs := journal.Network(dir); fs != "" {
		ns.prob.report("", nil, fmt.Errorf("%s is on a %s file system, where locks and syncs can fail silently; keep it on a local disk", l.Path(), fs))
	}
	if err := l.MayReplace(); err != nil && !o.readOnly {
		ns.prob.report("", nil, err)
	}
	if info, err := os.Stat(l.Path()); err == nil && info.Size() > largeFile {
		ns.prob.report("", nil, fmt.Errorf("%w: the file has %.1f MiB and took %d ms to load; keep large data in separate files",
			ErrTooLarge, float64(info.Size())/(1<<20), time.Since(start).Milliseconds()))
	}
	if err = ns.migrate(o.steps, o.anySchema); err == nil && o.declare != nil {
		err = o.declare(ns)
	}
	if err != nil {
		return nil, errors.Join(ns.fail("open", "", err), ns.Close())
	}
	return ns, nil
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

// encode encodes a value, and reports one that is large.
func (ns *Namespace) encode(name string, v value.Value) (ledger.Encoded, error) {
	enc, err := ledger.Encode(v)
	if err != nil {
		return enc, err
	}
	if enc.Exceeds(largeValue) {
		if _, told := ns.large.LoadOrStore(name, true); !told {
			ns.prob.report(name, nil, fmt.Errorf("%w: the value has %d bytes, which slows down every launch and change; keep a value of over %d bytes in a file", ErrTooLarge, enc.Size(), largeValue))
		}
	}
	return enc, nil
}

// An Entry is what is stored under a name, written with any key or none.
type Entry struct {
	Name    string
	Value   value.Value // the zero Value means that nothing is stored
	Version int64       // the commit that changed it last
	Updated time.Time   // the time of that commit, by the writer's clock; on a board by the server's
	By      string      // the writer's name, if it gave one: see ClientName
	From    string      // on a board: the instance of the writer, another one on each phone
}

// MarshalJSON returns the entry as an object:
//
//	{"name":"tank/litres","kind":"int","value":420,"version":17,"updated":"2026-05-03T09:12:44.123Z","by":"shed"}
func (e Entry) MarshalJSON() ([]byte, error) { return entry.Entry(e).MarshalJSON() }

// Entry returns the entry called name, if it exists.
func (ns *Namespace) Entry(name string) (e Entry, found bool) {
	n := ns.namespace().l.Find(name)
	if n == nil && ns.declaration != nil && ns.declaration.covers(name) {
		n = ns.l.Node(name) // NoteUsage records only what an app does through its keys
	}
	if n == nil {
		return Entry{Name: name}, false
	}
	n.MarkRead()
	rec := n.Record()
	return Entry(ledger.Named{Name: name, Record: rec}.Entry()), rec.Found()
}

// Entries iterates over the entries whose names begin with prefix, in byte order of the names, as
// of the start of the loop. The body can do anything, including write or Close.
func (ns *Namespace) Entries(prefix string) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		s := ns.namespace().l.Snapshot()
		defer s.Release()
		for e := range s.Entries(prefix, "") {
			if !yield(Entry(e.Entry())) {
				return
			}
		}
	}
}

// Put stores a value under a name without a key. It replaces a stored value of any kind. The errors
// are those of Var.Set.
func (ns *Namespace) Put(name string, v value.Value) error {
	err := CheckName(name)
	if err == nil {
		_, err = ns.namespace().commit(func(tx *ledger.Tx) error { return ns.put(tx, name, v) })
	}
	return ns.fail("put", name, err)
}

// put sets a name to a value in tx. The zero Value drops the name.
func (ns *Namespace) put(tx *ledger.Tx, name string, v value.Value) error {
	if v.IsZero() {
		tx.Drop(name)
		return nil
	}
	enc, err := ns.encode(name, v)
	if err != nil {
		return err
	}
	tx.Put(name, enc)
	return ns.checkLimit(tx)
}

// checkLimit returns an error if a value or the namespace would exceed its limit with the changes of
// tx. Making an entry or the namespace smaller is always allowed.
func (ns *Namespace) checkLimit(tx *ledger.Tx) error {
	if most := ns.limits.value; most > 0 {
		if size, over := tx.Over(most); over {
			return fmt.Errorf("%w: the value has %d bytes, and the limit is %d", ErrTooLarge, size, most)
		}
	}
	if most := ns.limits.namespace; most > 0 && tx.Size() > int64(most) && tx.Grows() {
		return fmt.Errorf("%w: the namespace would hold %d bytes, and the limit is %d", ErrTooLarge, tx.Size(), most)
	}
	return nil
}

// Drop removes entries in one commit. An absent name is no error.
func (ns *Namespace) Drop(names ...string) error {
	_, err := ns.namespace().commit(func(tx *ledger.Tx) error {
		for _, name := range names {
			tx.Drop(name)
		}
		return nil
	})
	return ns.fail("drop", "", err)
}

// Forget removes entries and erases them from the file: their names and every value that they had.
// The rest of the past stays, except for commits that changed nothing else. The errors are those of
// Var.Set. If the entries were removed and the file could not be rewritten, the error says so.
func (ns *Namespace) Forget(names ...string) error {
	err := ns.namespace().mayWrite()
	if err == nil && len(names) == 0 {
		err = refuse.As(ErrInvalid, "no name was given; use Reset to remove everything")
	}
	if err == nil {
		err = erased(ns.commit(func(tx *ledger.Tx) error {
			for _, name := range names {
				tx.Drop(name)
			}
			tx.Owe(names...)
			return nil
		}))
	}
	return ns.fail("forget", "", err)
}

// Watch yields the names of all the keys at once, and then, after each change, the names that
// changed. One loop body serves the first view of a screen and later ones. A slow body gets several
// changes as one. The loop ends when the body breaks, ctx ends, or the namespace is closed. The
// body can write and close.
func (ns *Namespace) Watch(ctx context.Context, keys ...AnyKey) iter.Seq[[]string] {
	var names, prefixes []string
	for _, k := range keys {
		for _, d := range k.Declared() {
			if d.Family {
				prefixes = append(prefixes, d.Name+"/")
			} else {
				names = append(names, d.Name)
			}
		}
	}
	return ns.watch(ctx, names, prefixes)
}

// WatchNames is Watch for names without keys. Without names it covers the whole namespace.
func (ns *Namespace) WatchNames(ctx context.Context, names ...string) iter.Seq[[]string] {
	if len(names) == 0 {
		return ns.watch(ctx, nil, []string{""})
	}
	return ns.watch(ctx, names, nil)
}

// watch yields the watched names and the names under the prefixes, and then the names that changed.
// It compares records, since a name that came and went between two looks is no change.
func (ns *Namespace) watch(ctx context.Context, names, prefixes []string) iter.Seq[[]string] {
	return func(yield func([]string) bool) {
		w := ns.namespace().l.Watch(names, prefixes)
		defer w.Close()
		s := ns.l.Snapshot()
		seen := map[string]*ledger.Record{}
		first := slices.Clone(names)
		for _, name := range names {
			seen[name] = s.Record(name)
		}
		for _, p := range prefixes {
			for e := range s.Entries(p, "") {
				first = append(first, e.Name)
				seen[e.Name] = e.Record
			}
		}
		at := s.Point()
		s.Release()
		if ctx.Err() != nil || ns.closed.Load() || !yield(first) {
			return
		}
		for w.Wait(ctx, ns.done) {
			s := ns.l.Snapshot()
			var changed []string
			for e := range s.Since(at) {
				if old := seen[e.Name]; w.Wants(e.Name) && old != e.Record && (old != nil || e.Found()) {
					changed = append(changed, e.Name)
					seen[e.Name] = e.Record
				}
			}
			at = s.Point()
			s.Release()
			if len(changed) > 0 && !yield(changed) {
				return
			}
		}
	}
}
