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

// A Namespace is the entries of one app on this device, kept in one file. All
// of it is in memory once it is open, so that reading never waits. It is safe
// for concurrent use, and several processes may have the same file open.
type Namespace struct {
	l           *ledger.Ledger
	name        string
	readOnly    bool
	within      time.Duration // over 0: commits are prompt
	author      entry.Author
	twice       bool // for tests: see package hooks
	migrated    bool // steps of the schema were taken at Open
	prob        *problems
	listener    *ledger.Listener
	sealer      Sealer
	limits      limits
	declaration *declaration // nil: nothing was declared
	undeclared  sync.Map     // names that were used without being declared
	large       sync.Map     // names of values that were reported as large
	notes       bool         // see NoteUsage
	noted       bool         // this run is counted; guarded by the lock of l
	closed      atomic.Bool
	done        chan struct{}
}

// Local is where a key can live on a device: a *Namespace, or a *Batch while
// its Commit runs.
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

// Open opens the namespace called name in the directory dir, which AppDir
// gives an app. Both are made when they don't exist: the directory with mode
// 0700, the file DIR/NAME.jsonl with 0600. name is 1 to 64 of a-z 0-9 . _ -
// and begins with a letter or a digit.
//
// When Open returns, all entries are in memory and Get can be used anywhere.
// Opening the same file twice in one process is allowed and gives two
// namespaces with the same entries.
//
// The errors are ErrInvalid for a bad name and for two declared keys with one
// name; ErrBusy when another process keeps the file locked for 5 s; ErrDamaged
// with Strict; ErrNewer; fs.ErrPermission, also where another user than the
// directory's owner would have to make a file; the file system's own; and with
// ReadOnly fs.ErrNotExist.
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
		sealer: o.sealer, limits: o.limits, within: min(o.within, longestWithin), notes: o.noteUsage,
		author: entry.Author{By: o.as},
	}
	var err error
	if ns.declaration, err = newDeclaration(o.declared); err != nil {
		return nil, ns.fail("open", "", err)
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
	if fs := journal.Network(dir); fs != "" {
		ns.prob.report("", nil, fmt.Errorf("%s lies on a %s file system, where locks and syncs may not hold what they promise; keep it on a local disk", l.Path(), fs))
	}
	if err := l.MayReplace(); err != nil && !o.readOnly {
		ns.prob.report("", nil, err)
	}
	if info, err := os.Stat(l.Path()); err == nil && info.Size() > largeFile {
		ns.prob.report("", nil, fmt.Errorf("%w: the file has %.1f MiB and took %d ms to load; keep large data in files of its own",
			ErrTooLarge, float64(info.Size())/(1<<20), time.Since(start).Milliseconds()))
	}
	if err = ns.migrate(o.steps, o.anySchema); err == nil {
		err = ns.declare()
	}
	if err != nil {
		return nil, errors.Join(ns.fail("open", "", err), ns.Close())
	}
	return ns, nil
}

// migrate takes the steps of the schema that the file has not had.
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
		ns.prob.report("", nil, fmt.Errorf("%w: the file has had %d steps of the schema of %d, and can't be changed", ErrReadOnly, had, len(steps)))
		return nil
	}
	_, err := ns.commit(func(tx *ledger.Tx) error {
		// Another process may have been faster, and know more.
		if tx.Schema() > int64(len(steps)) {
			return newerSchema(tx.Schema(), len(steps))
		}
		missing := steps[min(tx.Schema(), int64(len(steps))):]
		b, err := ns.run(func(b *Batch) error {
			for i, step := range missing {
				if err := step(b); err != nil {
					return fmt.Errorf("step %d of the schema: %w", len(steps)-len(missing)+i+1, err)
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
	return fmt.Errorf("%w: the file has had %d steps of the schema, and this program knows %d", ErrNewer, had, known)
}

// CheckNamespace says whether a namespace can be called name: see Open.
func CheckNamespace(name string) error { return journal.CheckName(name) }

// fail makes err an *Error of this namespace.
func (ns *Namespace) fail(op, name string, err error) error {
	return wrap(op, ns.name, name, err)
}

// Name is the namespace's name.
func (ns *Namespace) Name() string { return ns.namespace().name }

// Path is where the file lies.
func (ns *Namespace) Path() string { return ns.namespace().l.Path() }

// Version is how many commits the namespace has had.
func (ns *Namespace) Version() int64 { return ns.namespace().l.Version() }

// Problems gives the newest 100 things that went wrong and were survived,
// oldest first.
func (ns *Namespace) Problems() []Problem { return ns.namespace().prob.all() }

// Refresh makes visible what other processes have written. A write does so by
// itself, and so does a Watch that waits.
func (ns *Namespace) Refresh() error {
	if ns.namespace().closed.Load() {
		return ns.fail("refresh", "", ErrClosed)
	}
	return ns.fail("refresh", "", ns.l.Refresh())
}

// Close ends every Watch, syncs what was written promptly, and closes the file;
// all that was written before is on the disk. Get keeps giving the last values, and a write returns
// ErrClosed. A second Close returns nil.
func (ns *Namespace) Close() error {
	if !ns.namespace().closed.CompareAndSwap(false, true) {
		return nil
	}
	close(ns.done)
	ns.noteUsage()
	defer ns.l.Leave(ns.listener)
	// Another Namespace may keep the file open.
	return ns.fail("close", "", errors.Join(ns.l.Flush(), ns.l.Close()))
}

// commit is the one way by which this namespace writes.
func (ns *Namespace) commit(judge func(*ledger.Tx) error) (ledger.Result, error) {
	if err := ns.mayWrite(); err != nil {
		return ledger.Result{}, err
	}
	result, err := ns.l.CommitWithin(ns.within, ns.author, ledger.JudgeFunc(judge))
	if err == nil && len(result.Sealed) > 0 {
		err = ns.l.Forget(result.Sealed...) // what stood there in the clear
	}
	return result, err
}

// mayWrite says why nothing can be written: the ledger may be shared with a
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

// Flush syncs what was written promptly (see SyncWithin) to the disk. When it
// returns nil, a power cut does not undo anything that was written before. The
// errors are those of Var.Set.
func (ns *Namespace) Flush() error {
	if ns.namespace().closed.Load() {
		return ns.fail("flush", "", ErrClosed)
	}
	ns.noteUsage()
	return ns.fail("flush", "", ns.l.Flush())
}

// Reset removes everything that is stored, whatever its name and kind, so that
// every key is at its default again; the declared keys and the schema stay.
// When it returns nil the file holds nothing of what was, its history included.
// The errors are those of Var.Set; where removing succeeded and writing the file
// anew did not, the error says so.
func (ns *Namespace) Reset() error {
	_, err := ns.namespace().commit(func(tx *ledger.Tx) error {
		for _, name := range tx.Names() {
			tx.Drop(name)
		}
		return nil
	})
	if err == nil {
		err = ns.l.Forget()
	}
	return ns.fail("reset", "", err)
}

// encode checks a value against the limits and makes it fit to be stored.
func (ns *Namespace) encode(name string, v value.Value) (ledger.Encoded, error) {
	enc, err := ledger.Encode(v)
	if err != nil {
		return enc, err
	}
	if most := ns.limits.value; most > 0 && enc.Exceeds(most) {
		return enc, fmt.Errorf("%w: the value takes %d bytes, and %d is the most here", ErrTooLarge, enc.Size(), most)
	}
	if enc.Exceeds(largeValue) {
		if _, told := ns.large.LoadOrStore(name, true); !told {
			ns.prob.report(name, nil, fmt.Errorf("%w: the value takes %d bytes, which each launch and each change has to carry; keep what is over %d in a file", ErrTooLarge, enc.Size(), largeValue))
		}
	}
	return enc, nil
}

// An Entry is what is stored under a name, whatever key it was written with:
// Name, Value, Version (the commit that changed it last), Updated (when, by the
// clock of the writer), By (the app that did, where it gave its name: see As),
// and on a board From (which of its copies).
type Entry = entry.Entry

// Entry gives what is stored under name, if there is anything.
func (ns *Namespace) Entry(name string) (e Entry, found bool) {
	n := ns.namespace().l.Find(name)
	if n == nil && ns.declaration != nil && ns.declaration.covers(name) {
		n = ns.l.Node(name) // what an app does with its keys is noted
	}
	if n == nil {
		return Entry{Name: name}, false
	}
	n.MarkRead()
	rec := n.Record()
	return ledger.Named{Name: name, Record: rec}.Entry(), rec.Found()
}

// Entries walks over what is stored under the names that begin with prefix,
// by the byte order of the names, as it is at the start of the walk. The body
// may do anything, even write or Close.
func (ns *Namespace) Entries(prefix string) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		s := ns.namespace().l.Snapshot()
		defer s.Release()
		for e := range s.Entries(prefix, "") {
			if !yield(e.Entry()) {
				return
			}
		}
	}
}

// Put stores a value under a name without a key. It replaces whatever is
// there, of any kind. The errors are those of Var.Set.
func (ns *Namespace) Put(name string, v value.Value) error {
	err := CheckName(name)
	if err == nil {
		_, err = ns.namespace().commit(func(tx *ledger.Tx) error { return ns.put(tx, name, v) })
	}
	return ns.fail("put", name, err)
}

// put sets a name to a value in tx, or drops it for no value.
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

// checkLimit says whether the namespace keeps to its limit with the changes of tx.
func (ns *Namespace) checkLimit(tx *ledger.Tx) error {
	if most := ns.limits.namespace; most > 0 && tx.Size() > int64(most) {
		return fmt.Errorf("%w: with it the namespace would hold %d bytes, and %d is the most here", ErrTooLarge, tx.Size(), most)
	}
	return nil
}

// Drop removes what is stored under the names, in one commit. A name under
// which nothing is stored is not an error.
func (ns *Namespace) Drop(names ...string) error {
	_, err := ns.namespace().commit(func(tx *ledger.Tx) error {
		for _, name := range names {
			tx.Drop(name)
		}
		return nil
	})
	return ns.fail("drop", "", err)
}

// Forget removes what is stored under the names, and leaves nothing of it in the
// file: neither a name nor what it ever held. The rest of the past stays, but for
// the commits that did nothing else. The errors are those of Var.Set; where removing
// succeeded and writing the file anew did not, the error says so.
func (ns *Namespace) Forget(names ...string) error {
	err := ns.namespace().mayWrite()
	if err == nil && len(names) == 0 {
		err = refuse.As(ErrInvalid, "no name was given; Reset forgets everything")
	}
	if err == nil {
		_, err = ns.commit(func(tx *ledger.Tx) error {
			for _, name := range names {
				tx.Drop(name)
			}
			return nil
		})
	}
	if err == nil {
		err = ns.l.Forget(names...)
	}
	return ns.fail("forget", "", err)
}

// Watch gives the names of the keys at once, all of them, and then, after each
// change, those that changed: one handler for the first sight of a screen and
// for each later one. A slow body gets several changes as one. It ends when
// the body breaks off, ctx ends, or the namespace is closed; the body may
// write and close.
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

// WatchNames is Watch of names without keys; without names, of everything in
// the namespace.
func (ns *Namespace) WatchNames(ctx context.Context, names ...string) iter.Seq[[]string] {
	if len(names) == 0 {
		return ns.watch(ctx, nil, []string{""})
	}
	return ns.watch(ctx, names, nil)
}

// watch tells the names that are watched, and what stands under the prefixes;
// then what changed. Of what may have changed it compares the records, since a
// name that came and went meanwhile is no news.
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
