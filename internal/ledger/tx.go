package ledger

import (
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// A Tx is a commit during evaluation: it shows the state after the earlier commits, and collects
// changes. It belongs to the judge.
type Tx struct {
	l       *Ledger
	changes []change
	index   map[string]int // the position of a name in changes, once they are many
	keys    []entry.Declared
	schema  int64
	closed  int // as in commit.closed
	receipt *Receipt
	owes    []string // as in commit.owes
	sized   bool     // grown is set
	grown   int64    // how much the changes make it larger
}

// manyChanges is the number of changes from which a Tx has an index.
const manyChanges = 16

// Record returns the record of a name, without the changes of this Tx.
func (tx *Tx) Record(name string) *Record {
	n := tx.l.Find(name)
	if n == nil {
		return never
	}
	return n.judged()
}

// RecordOf is Record for a known node.
func (tx *Tx) RecordOf(n *Node) *Record {
	if n.flags.Load()&detached != 0 {
		return tx.Record(n.Name)
	}
	return n.judged()
}

// Value returns the value of a name after the changes so far.
func (tx *Tx) Value(name string) value.Value {
	if i := tx.find(name); i >= 0 {
		return tx.changes[i].val
	}
	return tx.Record(name).Value
}

// Changed returns the names that were put or dropped so far.
func (tx *Tx) Changed() []string {
	names := make([]string, len(tx.changes))
	for i, c := range tx.changes {
		names[i] = c.name
	}
	return names
}

// Names returns the names with a value after the changes so far, in byte order.
func (tx *Tx) Names() []string {
	return tx.NamesUnder("")
}

// NamesUnder returns the names with a value that have a prefix, in byte order.
func (tx *Tx) NamesUnder(prefix string) []string {
	candidates := slices.DeleteFunc(tx.Changed(), func(name string) bool { return !strings.HasPrefix(name, prefix) })
	all := tx.l.inOrder()
	from, _ := slices.BinarySearchFunc(all, prefix, func(n *Node, p string) int { return strings.Compare(n.Name, p) })
	for _, n := range all[from:] {
		if !strings.HasPrefix(n.Name, prefix) {
			break
		}
		candidates = append(candidates, n.Name)
	}
	sorted.Strings(candidates)
	candidates = slices.Compact(candidates)
	return slices.DeleteFunc(candidates, func(name string) bool { return tx.Value(name).IsZero() })
}

// ChangedSince iterates over the names that were set or removed after a version, without the
// changes of this Tx. Names removed long ago may be missing.
func (tx *Tx) ChangedSince(version int64) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, n := range tx.l.inOrder() {
			if n.judged().Version > version && !yield(n.Name) {
				return
			}
		}
	}
}

// OnNothing evaluates a judge on an empty ledger. Its changes are lost.
func OnNothing(judge func(*Tx) error) error {
	l := &Ledger{state: newState(0), scratch: batch{closed: -1}, opts: Options{Now: time.Now}}
	return judge(&Tx{l: l, closed: -1})
}

func (tx *Tx) find(name string) int {
	if tx.index != nil {
		if i, found := tx.index[name]; found {
			return i
		}
		return -1
	}
	return slices.IndexFunc(tx.changes, func(c change) bool { return c.name == name })
}

// Put sets a name to an encoded value.
func (tx *Tx) Put(name string, e Encoded) { tx.set(change{name: name, val: e.val, json: e.json}) }

// PutTo is Put for a known node.
func (tx *Tx) PutTo(n *Node, e Encoded) {
	tx.set(change{node: n, name: n.Name, val: e.val, json: e.json})
}

// Drop removes a name.
func (tx *Tx) Drop(name string) { tx.set(change{name: name}) }

func (tx *Tx) set(c change) {
	i := tx.find(c.name)
	if tx.sized {
		before := tx.Record(c.name).Value
		if i >= 0 {
			before = tx.changes[i].val
		}
		tx.grown += sizeOf(c.name, c.val) - sizeOf(c.name, before)
	}
	if i >= 0 {
		tx.changes[i] = c
		return
	}
	tx.changes = append(tx.changes, c)
	switch {
	case tx.index != nil:
		tx.index[c.name] = len(tx.changes) - 1
	case len(tx.changes) > manyChanges:
		tx.index = make(map[string]int, 2*len(tx.changes))
		for i, c := range tx.changes {
			tx.index[c.name] = i
		}
	}
}

// CloseKeys allows only declared names, or any name again.
func (tx *Tx) CloseKeys(closed bool) {
	tx.closed = 0
	if closed {
		tx.closed = 1
	}
}

// KeysClosed reports whether only declared names were allowed before this Tx.
func (tx *Tx) KeysClosed() bool {
	if ahead := tx.l.scratch.closed; ahead >= 0 {
		return ahead == 1
	}
	return tx.l.KeysClosed()
}

// Declare declares keys, or changes declarations.
func (tx *Tx) Declare(keys ...entry.Declared) { tx.keys = append(tx.keys, keys...) }

// Withdraw removes a declaration.
func (tx *Tx) Withdraw(key entry.Declared) {
	key.Gone = true
	tx.keys = append(tx.keys, key)
}

// Owe makes the commit erase the old values of names from the file, and the names that then hold
// nothing. See Result.Duty.
func (tx *Tx) Owe(names ...string) {
	for _, name := range names {
		tx.owes = owe(tx.owes, name)
	}
}

// OweAll makes the commit erase the whole past, and every name that then holds nothing.
func (tx *Tx) OweAll() { tx.owes = []string{} }

// owe adds a name to a list of names to erase, unless the list means everything.
func owe(owes []string, name string) []string {
	if owes != nil && len(owes) == 0 {
		return owes
	}
	return append(owes, name)
}

// Schema returns the schema number so far.
func (tx *Tx) Schema() int64 { return tx.schema }

// Declared returns the declaration with an ID, if there is one.
func (tx *Tx) Declared(id string) (entry.Declared, bool) { return tx.l.Declared(id) }

// DeclaredFor returns the declaration that covers a name.
func (tx *Tx) DeclaredFor(name string) entry.Declared { return tx.l.DeclaredFor(name) }

// Keys returns the declarations before this Tx, by name.
func (tx *Tx) Keys() []entry.Declared { return tx.l.Keys() }

// Size returns the approximate bytes of names and values after the changes. It costs only the
// number of changes.
func (tx *Tx) Size() int64 {
	_, size := tx.before()
	_, grown := tx.Grown()
	return size + grown
}

// Grown returns by how many names and bytes the changes so far make it larger.
func (tx *Tx) Grown() (names int, bytes int64) {
	for _, c := range tx.changes {
		names += there(c.val) - there(tx.Record(c.name).Value)
	}
	if !tx.sized {
		tx.sized = true
		for _, c := range tx.changes {
			tx.grown += sizeOf(c.name, c.val) - sizeOf(c.name, tx.Record(c.name).Value)
		}
	}
	return names, tx.grown
}

// Over returns the size of the first value that has more than most bytes, unless it makes its entry
// smaller.
func (tx *Tx) Over(most int) (size int, over bool) {
	for _, c := range tx.changes {
		e := Encoded{c.val, c.json}
		if c.val.IsZero() || !e.Exceeds(most) {
			continue
		}
		if size = e.Size(); size >= jsonLen(tx.Record(c.name).Value) {
			return size, true
		}
	}
	return 0, false
}

// Grows reports whether the changes so far make the names and values larger.
func (tx *Tx) Grows() bool {
	_, bytes := tx.Grown()
	return bytes > 0
}

// before returns the sizes without the changes of this Tx.
func (tx *Tx) before() (names int, bytes int64) {
	names, bytes = tx.l.Count()
	b := &tx.l.scratch
	if b.counted {
		return names + b.names, bytes + b.bytes
	}
	for _, n := range b.ahead { // only this time; now it has been counted
		names += there(n.ahead.Value) - there(n.Record().Value)
		bytes += sizeOf(n.Name, n.ahead.Value) - sizeOf(n.Name, n.Record().Value)
	}
	return names, bytes
}

func there(v value.Value) int {
	if v.IsZero() {
		return 0
	}
	return 1
}

// Count returns the number of names with a value after the changes. It costs only the number of
// changes.
func (tx *Tx) Count() int {
	names, _ := tx.before()
	grown, _ := tx.Grown()
	return names + grown
}

// SetSchema sets the schema number.
func (tx *Tx) SetSchema(n int64) { tx.schema = n }
