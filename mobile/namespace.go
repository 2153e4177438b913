package mobile

import (
	"context"
	"iter"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/seal"
)

// Options are how a namespace is opened. Those that are not set are as in package pantry.
type Options struct {
	all []pantry.Option
	err error
}

// NewOptions gives options, none set.
func NewOptions() *Options { return &Options{} }

func (o *Options) set(one pantry.Option) *Options {
	if o != nil {
		o.all = append(o.all, one)
	}
	return o
}

// SyncWithin has writes return when they are written, and be synced within some
// milliseconds: the end of the app does not undo them, a power cut before may.
func (o *Options) SyncWithin(millis int64) *Options {
	return o.set(pantry.SyncWithin(time.Duration(millis) * time.Millisecond))
}

// ReadOnly has nothing be written.
func (o *Options) ReadOnly() *Options { return o.set(pantry.ReadOnly()) }

// As says who changes what is changed here, for the history.
func (o *Options) ClientName(name string) *Options { return o.set(pantry.ClientName(name)) }

// Seal has sealed keys be sealed with AES-GCM under a key of 32 bytes, which the platform's
// keystore keeps. A key that stands in the app's code seals nothing.
func (o *Options) Seal(key []byte) *Options {
	if o == nil {
		return o
	}
	s, err := seal.AESGCM(append([]byte{}, key...))
	if err != nil {
		o.err = misuse("%w", err)
		return o
	}
	return o.set(pantry.Seal(s))
}

// OnProblem tells what went wrong and was survived, as CODE: SENTENCE, through the runner.
func (o *Options) OnProblem(r Runner, h ProblemHandler) *Options {
	if o == nil {
		return o
	}
	f, err := problems(r, h, told)
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

// Open opens the namespace called name in a directory that is the app's own, with its keys;
// both are made where they don't exist. options may be null. The errors are misuse and invalid
// for what is wrong with keys, options or the name, busy, newer, permission and failed.
func Open(dir, name string, keys *Keys, options *Options) (ns *Namespace, err error) {
	if keys == nil {
		return nil, misuse("a namespace is opened with keys: make them with NewKeys")
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
		return nil, told(err)
	}
	return &Namespace{opened, keys}, nil
}

func (n *Namespace) ready() error {
	if n == nil || n.ns == nil {
		return misuse("this namespace was not opened with Open")
	}
	return nil
}

// takes says whether a key can be bound here.
func (n *Namespace) takes(k anyKey) error {
	if err := k.ready(); err != nil {
		return err
	}
	if err := n.ready(); err != nil {
		return err
	}
	if k.of() != n.keys {
		return misuse("%s was declared with other keys than %s was opened with", k.declared().Name(), n.ns.Name())
	}
	return nil
}

func (n *Namespace) local() pantry.Local {
	if n == nil {
		return nil
	}
	return n.ns
}

// do does something with a namespace that was opened.
func (n *Namespace) do(f func(*pantry.Namespace) error) error {
	if err := n.ready(); err != nil {
		return err
	}
	return told(f(n.ns))
}

// Close closes it, with all that was written on the disk. Get keeps the last values.
func (n *Namespace) Close() error { return n.do((*pantry.Namespace).Close) }

// Flush returns when all that was written is on the disk.
func (n *Namespace) Flush() error { return n.do((*pantry.Namespace).Flush) }

// Reset removes every entry, declared or not, and leaves nothing of them in the file.
func (n *Namespace) Reset() error { return n.do((*pantry.Namespace).Reset) }

// Path is where the file lies; empty where it was not opened.
func (n *Namespace) Path() string {
	if n.ready() != nil {
		return ""
	}
	return n.ns.Path()
}

// Version is how many commits there were.
func (n *Namespace) Version() int64 {
	if n.ready() != nil {
		return 0
	}
	return n.ns.Version()
}

// Watch tells changed of each change of anything, by whoever, and once at the beginning.
func (n *Namespace) Watch(r Runner, changed Handler) (*Watching, error) {
	if err := n.ready(); err != nil {
		return nil, err
	}
	return watch(r, changed, handover.Each(func(ctx context.Context) iter.Seq[[]string] { return n.ns.WatchNames(ctx) }))
}

// A Change is what a commit does.
type Change interface{ Apply(b *Batch) error }

// Commit makes several changes, all or none: where Apply gives an error, or throws one,
// nothing is stored, and Commit gives that error.
func (n *Namespace) Commit(c Change) error {
	if c == nil {
		return misuse("a commit takes a change")
	}
	return n.do(func(ns *pantry.Namespace) error {
		return ns.Commit(func(b *pantry.Batch) error {
			batch := &Batch{b: b, ns: n}
			defer func() { batch.over = true }()
			return c.Apply(batch)
		})
	})
}

// A Batch is a commit that is being made. It counts as long as Apply runs.
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

// An Entry is a name with its value.
type Entry struct {
	Name    string
	Kind    string
	JSON    string // its value
	Version int64  // of the commit that made it so
	Updated int64  // when, in milliseconds since 1970 (UTC)
	By      string // who
}

// Entries are several, by their names.
type Entries struct{ all []*Entry }

// Len is how many there are.
func (e *Entries) Len() int {
	if e == nil {
		return 0
	}
	return len(e.all)
}

// At gives one, from 0 on. The error is misuse where there is none.
func (e *Entries) At(i int) (*Entry, error) {
	if i < 0 || i >= e.Len() {
		return nil, misuse("there is no entry %d of %d", i, e.Len())
	}
	return e.all[i], nil
}

// Entries gives those whose names begin with prefix; empty: all.
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
