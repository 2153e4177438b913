package mobile

import (
	"context"
	"iter"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/seal"
)

// Options are the settings for opening a namespace. The defaults are those of package pantry.
type Options struct {
	all []pantry.Option
	err error
}

// NewOptions returns the default options.
func NewOptions() *Options { return &Options{} }

func (o *Options) set(one pantry.Option) *Options {
	if o != nil {
		o.all = append(o.all, one)
	}
	return o
}

// SyncWithin makes writes return once they are written. They are synced within the given
// milliseconds. The end of the app does not undo them; a power cut before the sync can.
func (o *Options) SyncWithin(millis int64) *Options {
	return o.set(pantry.SyncWithin(time.Duration(millis) * time.Millisecond))
}

// ReadOnly refuses writes.
func (o *Options) ReadOnly() *Options { return o.set(pantry.ReadOnly()) }

// ClientName sets the author of this app's changes in the history.
func (o *Options) ClientName(name string) *Options { return o.set(pantry.ClientName(name)) }

// Seal encrypts sealed keys with AES-GCM and a key of 32 bytes from the platform's keystore. A key
// in the app's code protects nothing.
func (o *Options) Seal(key []byte) *Options {
	if o == nil {
		return o
	}
	s, err := seal.AESGCM(append([]byte{}, key...))
	if err != nil {
		o.err = handover.Misuse("%w", err)
		return o
	}
	return o.set(pantry.Seal(s))
}

// OnProblem reports problems that the app survives, as CODE: SENTENCE, through the runner.
func (o *Options) OnProblem(r Runner, h ProblemHandler) *Options {
	if o == nil {
		return o
	}
	f, err := PassProblems(r, h, handover.Coded)
	if err != nil {
		o.err = err
		return o
	}
	return o.set(pantry.OnProblem(f))
}

// A Namespace is the entries of one app on this device, in one file.
type Namespace struct {
	ns   *pantry.Namespace
	keys *Keys
}

// Open opens the namespace called name in a directory of the app, with its keys. It creates a
// missing directory and file. options can be null. The errors are misuse and invalid for wrong
// keys, options or names, and busy, newer, permission and failed.
func Open(dir, name string, keys *Keys, options *Options) (ns *Namespace, err error) {
	if keys == nil {
		return nil, handover.Misuse("a namespace is opened with keys: make them with NewKeys")
	}
	declared, err := keys.take()
	if err != nil {
		return nil, err
	}
	opts := []pantry.Option{pantry.Declare(declared...)}
	if options != nil {
		if options.err != nil {
			return nil, options.err
		}
		opts = append(opts, options.all...)
	}
	defer caught(&err)
	opened, err := pantry.Open(dir, name, opts...)
	if err != nil {
		return nil, handover.Coded(err)
	}
	return &Namespace{opened, keys}, nil
}

func (n *Namespace) ready() error {
	if n == nil || n.ns == nil {
		return handover.Misuse("this namespace was not opened with Open")
	}
	return nil
}

// takes reports whether a key can be bound to the namespace.
func (n *Namespace) takes(k anyKey) error {
	if err := k.ready(); err != nil {
		return err
	}
	if err := n.ready(); err != nil {
		return err
	}
	if k.of() != n.keys {
		return handover.Misuse("%s was declared with other keys than %s was opened with", k.declared().Name(), n.ns.Name())
	}
	return nil
}

func (n *Namespace) local() pantry.Local {
	if n == nil {
		return nil
	}
	return n.ns
}

// do calls a function with an open namespace.
func (n *Namespace) do(f func(*pantry.Namespace) error) error {
	if err := n.ready(); err != nil {
		return err
	}
	return handover.Coded(f(n.ns))
}

// Close closes the namespace after everything written is on disk. Get continues to return the last
// values.
func (n *Namespace) Close() error { return n.do((*pantry.Namespace).Close) }

// Flush returns when everything written is on disk.
func (n *Namespace) Flush() error { return n.do((*pantry.Namespace).Flush) }

// Reset removes every entry, declared or not, and erases them from the file.
func (n *Namespace) Reset() error { return n.do((*pantry.Namespace).Reset) }

// Path returns the path of the file, or "" if the namespace was not opened.
func (n *Namespace) Path() string {
	if n.ready() != nil {
		return ""
	}
	return n.ns.Path()
}

// Version returns the number of commits.
func (n *Namespace) Version() int64 {
	if n.ready() != nil {
		return 0
	}
	return n.ns.Version()
}

// Watch calls changed after each change of any entry, by any process, and once at the
// beginning.
func (n *Namespace) Watch(r Runner, changed Handler) (*Watching, error) {
	if err := n.ready(); err != nil {
		return nil, err
	}
	return WatchChanges(r, changed, handover.Each(func(ctx context.Context) iter.Seq[[]string] { return n.ns.WatchNames(ctx) }))
}

// A Change is the body of a commit.
type Change interface{ Apply(b *Batch) error }

// Commit makes several changes, all or none. If Apply returns or throws an error, nothing is
// stored, and Commit returns that error.
func (n *Namespace) Commit(c Change) error {
	if c == nil {
		return handover.Misuse("a commit needs a change")
	}
	return n.do(func(ns *pantry.Namespace) error {
		return ns.Commit(func(b *pantry.Batch) error {
			batch := &Batch{b: b, ns: n}
			defer func() { batch.over = true }()
			return c.Apply(batch)
		})
	})
}

// A Batch is a commit that is being made. It is valid while Apply runs.
type Batch struct {
	b    *pantry.Batch
	ns   *Namespace
	over bool
}

func (b *Batch) local() pantry.Local {
	if b == nil || b.b == nil {
		return nil
	}
	return b.b
}

func (b *Batch) of() *Namespace {
	if b == nil || b.b == nil || b.over {
		return nil
	}
	return b.ns
}

// An Entry is a stored entry.
type Entry struct {
	Name    string
	Kind    string
	JSON    string // its value
	Version int64  // the version of its last change
	Updated int64  // the time of its last change, in milliseconds since 1970 (UTC)
	By      string // the author of its last change
}

// Entries are several entries, sorted by name.
type Entries struct{ all []*Entry }

// Len returns the number of entries.
func (e *Entries) Len() int {
	if e == nil {
		return 0
	}
	return len(e.all)
}

// At returns the entry at an index from 0. An index out of range is misuse.
func (e *Entries) At(i int) (*Entry, error) {
	if i < 0 || i >= e.Len() {
		return nil, handover.Misuse("there is no entry %d of %d", i, e.Len())
	}
	return e.all[i], nil
}

// Entries returns the entries whose names begin with prefix; "" returns all.
func (n *Namespace) Entries(prefix string) (*Entries, error) {
	out := &Entries{}
	err := n.do(func(ns *pantry.Namespace) error {
		for e := range ns.Entries(prefix) {
			out.all = append(out.all, &Entry{e.Name, e.Value.Kind().String(), e.Value.String(), e.Version, e.Updated.UnixMilli(), e.By})
		}
		return nil
	})
	return out, err
}
