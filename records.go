package pantry

import (
	"cmp"
	"fmt"
	"iter"
	"math"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/records"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// Records is a collection in a namespace or in a batch. It is safe for concurrent use.
type Records[T any] struct {
	_ [0]*T // so that Records can't be converted to those of another type
	r recordSet
}

// A recordSet is what Records does apart from T. Each x is a *T: see definition.
type recordSet struct {
	c  collection
	at Local
}

// bound returns what r is. It panics on zero Records.
func (r Records[T]) bound() recordSet {
	if r.r.at == nil {
		misuse("a zero Records was used; get one from RecordsKey.In")
	}
	return r.r
}

// record returns the binding of one record.
func (r recordSet) record(op, id string) (*binding, error) {
	part := r.c.Part(id)
	err := CheckName(r.c.name + "/" + part)
	if err == nil {
		err = oneID(id, part)
	}
	if err != nil {
		return nil, wrap(op, r.namespace().name, r.c.name, err)
	}
	return r.one(id, r.at), nil
}

func (r recordSet) namespace() *Namespace { return r.at.namespace() }

// name returns the name of a record's entry.
func (r recordSet) name(id string) string { return r.c.name + "/" + r.c.Part(id) }

// one returns the binding of one record, for one operation.
func (r recordSet) one(id string, at Local) *binding {
	return passing(at.namespace(), r.c.record(id), at.batch())
}

// inBatch makes a change in the collection's batch, or in a batch of its own.
func (r recordSet) inBatch(op string, change func(*Batch) error) error {
	ns := r.namespace()
	if b := r.at.batch(); b != nil {
		return b.edit(op, r.c.name, func() error { return change(b) })
	}
	return ns.Commit(change)
}

// Add stores a new record under the next number and returns the number as its id. A number is never
// reused, even if its record is dropped; only Namespace.Reset starts again. Concurrent Adds get
// different ids. The errors are those of Var.Set.
func (r Records[T]) Add(x T) (id string, err error) { return r.bound().add(&x) }

func (r recordSet) add(x any) (id string, err error) {
	err = r.inBatch("add", func(b *Batch) error {
		last, err := r.last(b)
		if err != nil {
			return err
		}
		if last == math.MaxInt64 {
			return wrap("add", b.ns.name, r.c.name, refuse.As(ErrInvalid, "there is no number after %d", last))
		}
		for last++; b.find(r.c.name + "/" + strconv.FormatInt(last, 10)).Found(); last++ {
			if last == math.MaxInt64 { // somebody has stored it by its name
				return wrap("add", b.ns.name, r.c.name, refuse.As(ErrInvalid, "there is no free number after %d", last))
			}
		}
		id = strconv.FormatInt(last, 10)
		if err := b.set(r.c.name, value.Int(last)); err != nil {
			return err
		}
		return r.one(id, b).set(x)
	})
	if err != nil {
		id = ""
	}
	return id, err
}

// last returns the newest number. It is stored under the collection's own name, so that the number
// of a dropped record is not reused.
func (r recordSet) last(b *Batch) (int64, error) {
	rec := b.find(r.c.name)
	if n, ok := rec.Value.AsInt(); ok {
		return n, nil
	}
	if rec.Found() {
		return 0, wrap("add", b.ns.name, r.c.name, fmt.Errorf("%w: %s is stored in place of the newest number of the records", ErrWrongKind, rec.Value.Kind()))
	}
	var last int64
	for _, e := range r.entries() {
		last = max(last, records.Number(e.id))
	}
	return last, nil
}

// Put stores a record under an id and replaces an existing one. Members of the existing record that
// T does not know are kept. The errors are those of Var.Set, and ErrInvalid for a bad id.
func (r Records[T]) Put(id string, x T) error { return r.bound().put(id, &x) }

func (r recordSet) put(id string, x any) error {
	if _, err := r.record("put", id); err != nil {
		return err
	}
	return r.inBatch("put", func(b *Batch) error {
		if n := records.Number(id); n > 0 {
			last, err := r.last(b)
			if err != nil {
				return err
			}
			if n > last {
				if err := b.set(r.c.name, value.Int(n)); err != nil {
					return err
				}
			}
		}
		return r.one(id, b).set(x)
	})
}

// Update stores the record that f returns for the present one, and returns what is stored then: see
// Var.Update. If there is no such record, the error is ErrAbsent.
func (r Records[T]) Update(id string, f func(old T) (T, error)) (now T, err error) {
	x, err := r.bound().update(id, keydef.Update(f))
	return keydef.Value[T](x), err
}

func (r recordSet) update(id string, f func(old any) (any, error)) (now any, err error) {
	b, err := r.record("update", id)
	if err != nil {
		return nil, err
	}
	return b.update(f, func(old *reading) error {
		if !old.found {
			return fmt.Errorf("%w: record %s does not exist", ErrAbsent, scan.Quote(id))
		}
		return nil
	})
}

// Lookup returns a record, if it exists. The error is ErrWrongKind or ErrInvalid if it is unusable;
// x is then the zero T.
func (r Records[T]) Lookup(id string) (x T, found bool, err error) {
	b, err := r.bound().record("look up", id)
	if err != nil {
		return x, false, err
	}
	return variable[T](b).Lookup()
}

// Get returns a record, or the zero T if it is absent or unusable. An unusable record is reported
// as a Problem. Get never fails.
func (r Records[T]) Get(id string) (x T) {
	if b, err := r.bound().record("get", id); err == nil {
		return variable[T](b).Get()
	}
	return x
}

// Clear removes all records in one commit. Their numbers are not reused. The errors are those of
// Var.Set.
func (r Records[T]) Clear() error { return r.bound().clear() }

func (r recordSet) clear() error {
	return r.inBatch("clear", func(b *Batch) error {
		var ids []string
		r := recordSet{r.c, b}
		for _, e := range r.unordered() {
			ids = append(ids, e.id)
		}
		return r.drop(ids)
	})
}

// Drop removes the records with these ids in one commit. An id without a record is no error.
func (r Records[T]) Drop(ids ...string) error { return r.bound().drop(ids) }

func (r recordSet) drop(ids []string) error {
	for _, id := range ids {
		if _, err := r.record("delete", id); err != nil {
			return err
		}
	}
	return r.inBatch("delete", func(b *Batch) error {
		if _, err := r.last(b); err == nil && !b.find(r.c.name).Found() {
			last, _ := r.last(b)
			if last > 0 { // keep the number of a record that was put under it
				if err := b.set(r.c.name, value.Int(last)); err != nil {
					return err
				}
			}
		}
		for _, id := range ids {
			if err := b.set(r.name(id), value.Value{}); err != nil {
				return err
			}
		}
		return nil
	})
}

type recordEntry struct {
	id  string
	rec *ledger.Record
}

// entries returns the records as of one moment, in order.
func (r recordSet) entries() []recordEntry {
	out := r.unordered()
	sorted.By(out, inOrder)
	return out
}

// unordered is entries in byte order of the ids.
func (r recordSet) unordered() []recordEntry {
	ns, prefix := r.namespace(), r.c.name+"/"
	var out []recordEntry
	keep := func(name string, rec *ledger.Record) {
		if part := name[len(prefix):]; rec.Found() && !strings.Contains(part, "/") {
			out = append(out, recordEntry{r.c.ID(part), rec})
		}
	}
	if b := r.at.batch(); b != nil && !b.ended {
		for _, name := range b.namesUnder(prefix) {
			keep(name, b.find(name))
		}
	} else {
		s := ns.l.Snapshot()
		for e := range s.Entries(prefix, "") {
			keep(e.Name, e.Record)
		}
		s.Release()
	}
	return out
}

// inOrder sorts numbers first, by size, and then the other ids in the order of adding. Ids of one
// commit, and absent ones, are in byte order.
func inOrder(a, b *recordEntry) int {
	if order, decided := records.Compare(a.id, b.id); decided {
		return order
	}
	return cmp.Or(cmp.Compare(a.added(), b.added()), strings.Compare(a.id, b.id))
}

// added returns the version that added the record. Absent records come last.
func (e recordEntry) added() int64 {
	if !e.rec.Found() {
		return math.MaxInt64
	}
	return e.rec.First
}

// All iterates over the records as of the start of the loop: first those whose ids are numbers, by
// size, then the others in the order in which they were added. Ids that one commit added are in
// byte order. Changing a record does not move it; dropping it and putting it again does. An
// unusable record is left out and reported as a Problem. The body can write. In a batch, All
// includes the batch's changes.
func (r Records[T]) All() iter.Seq2[string, T] { return keydef.Records[T](r.bound().read()) }

// read is all, and notes that the program reads the records.
func (r recordSet) read() iter.Seq2[string, any] {
	return func(yield func(string, any) bool) {
		r.markRead()
		r.all()(yield)
	}
}

func (r recordSet) all() iter.Seq2[string, any] {
	return func(yield func(string, any) bool) {
		ns := r.namespace()
		for _, e := range r.entries() {
			x, err := r.c.Decode(e.rec.Value)
			if err != nil {
				ns.prob.report(r.name(e.id), e.rec, unusable(e.rec.Value, err))
				continue
			}
			if !yield(e.id, x) {
				return
			}
		}
	}
}

// Sorted is All in the order of compare, which returns a negative number if a comes before b.
// Records that compare as equal are in the order of All.
func (r Records[T]) Sorted(compare func(a, b T) int) iter.Seq2[string, T] {
	return keydef.Records[T](records.Sorted(r.bound().read(), keydef.Order(compare)))
}

// At returns one record as a variable, on which Add, Raise, Append and the like work. Writing it creates
// the record. A text that can't be an id is ErrInvalid when the variable is written.
func (r Records[T]) At(id string) Var[T] {
	all := r.bound()
	return variable[T](all.c.record(id).in(all.at))
}

// Len returns the number of records, including unusable ones.
func (r Records[T]) Len() int {
	all := r.bound()
	all.markRead()
	return len(all.unordered())
}

// markRead notes that the program reads the records, even if there are none.
func (r recordSet) markRead() { r.namespace().l.Node(r.c.name).MarkRead() }
