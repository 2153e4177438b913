package pantry

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/records"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// Records is a collection in a namespace or in a batch. It is safe for concurrent use.
type Records[T any] struct {
	key RecordsKey[T]
	k   Key[T] // key.one
	at  Local
}

// In returns the collection for this key in a namespace or in a batch.
func (k RecordsKey[T]) In(at Local) Records[T] {
	if at == nil {
		misuse("In of %s needs a *Namespace or a *Batch, not nil", k.Name())
	}
	at.namespace().noteUse(k.Name(), "")
	return Records[T]{k, k.one, at}
}

func (r Records[T]) namespace() *Namespace {
	if r.at == nil {
		misuse("a zero Records was used; get one from RecordsKey.In")
	}
	return r.at.namespace()
}

// record returns the variable of one record.
func (r Records[T]) record(op, id string) (Var[T], error) {
	part := r.key.part(id)
	err := CheckName(r.k.d.name + "/" + part)
	if err == nil {
		err = oneID(id, part)
	}
	if err != nil {
		return Var[T]{}, wrap(op, r.namespace().name, r.k.d.name, err)
	}
	return r.one(id, r.at), nil
}

// name returns the name of a record's entry.
func (r Records[T]) name(id string) string { return r.k.d.name + "/" + r.key.part(id) }

// one returns the variable of one record, for one operation.
func (r Records[T]) one(id string, at Local) Var[T] {
	return passing(at.namespace(), r.key.At(id).d, at.batch()).variable()
}

// inBatch makes a change in the collection's batch, or in a batch of its own.
func (r Records[T]) inBatch(op string, change func(*Batch) error) error {
	ns := r.namespace()
	if b := r.at.batch(); b != nil {
		return b.edit(op, r.k.d.name, func() error { return change(b) })
	}
	return ns.Commit(change)
}

// Add stores a new record under the next number and returns the number as its id. A number is never
// reused, even if its record is dropped; only Namespace.Reset starts again. Concurrent Adds get
// different ids. The errors are those of Var.Set.
func (r Records[T]) Add(x T) (id string, err error) {
	err = r.inBatch("add", func(b *Batch) error {
		last, err := r.last(b)
		if err != nil {
			return err
		}
		if last == math.MaxInt64 {
			return wrap("add", b.ns.name, r.k.d.name, refuse.As(ErrInvalid, "there is no number after %d", last))
		}
		for last++; b.find(r.k.d.name + "/" + strconv.FormatInt(last, 10)).Found(); last++ {
			if last == math.MaxInt64 { // somebody has stored it by its name
				return wrap("add", b.ns.name, r.k.d.name, refuse.As(ErrInvalid, "there is no free number after %d", last))
			}
		}
		id = strconv.FormatInt(last, 10)
		if err := b.set(r.k.d.name, value.Int(last)); err != nil {
			return err
		}
		return r.one(id, b).Set(x)
	})
	if err != nil {
		id = ""
	}
	return id, err
}

// last returns the newest number. It is stored under the collection's own name, so that the number
// of a dropped record is not reused.
func (r Records[T]) last(b *Batch) (int64, error) {
	rec := b.find(r.k.d.name)
	if n, ok := rec.Value.AsInt(); ok {
		return n, nil
	}
	if rec.Found() {
		return 0, wrap("add", b.ns.name, r.k.d.name, fmt.Errorf("%w: %s is stored in place of the newest number of the records", ErrWrongKind, rec.Value.Kind()))
	}
	var last int64
	for _, e := range r.entries() {
		last = max(last, records.Number(e.id))
	}
	return last, nil
}

// Put stores a record under an id and replaces an existing one. Members of the existing record that
// T does not know are kept. The errors are those of Var.Set, and ErrInvalid for a bad id.
func (r Records[T]) Put(id string, x T) error {
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
				if err := b.set(r.k.d.name, value.Int(n)); err != nil {
					return err
				}
			}
		}
		return r.one(id, b).Set(x)
	})
}

// Update stores the record that f returns for the present one, and returns what is stored then: see
// Var.Update. If there is no such record, the error is ErrAbsent.
func (r Records[T]) Update(id string, f func(old T) (T, error)) (now T, err error) {
	v, err := r.record("update", id)
	if err != nil {
		return now, err
	}
	return v.update(f, func(old *reading[T]) error {
		if !old.found {
			return fmt.Errorf("%w: record %s does not exist", ErrAbsent, scan.Quote(id))
		}
		return nil
	})
}

// Lookup returns a record, if it exists. The error is ErrWrongKind or ErrInvalid if it is unusable;
// x is then the zero T.
func (r Records[T]) Lookup(id string) (x T, found bool, err error) {
	v, err := r.record("look up", id)
	if err != nil {
		return x, false, err
	}
	return v.Lookup()
}

// Get returns a record, or the zero T if it is absent or unusable. An unusable record is reported
// as a Problem. Get never fails.
func (r Records[T]) Get(id string) (x T) {
	if v, err := r.record("get", id); err == nil {
		return v.Get()
	}
	return x
}

// Clear removes all records in one commit. Their numbers are not reused. The errors are those of
// Var.Set.
func (r Records[T]) Clear() error {
	return r.inBatch("clear", func(b *Batch) error {
		var ids []string
		for _, e := range (Records[T]{r.key, r.k, b}).unordered() {
			ids = append(ids, e.id)
		}
		return Records[T]{r.key, r.k, b}.Drop(ids...)
	})
}

// Drop removes the records with these ids in one commit. An id without a record is no error.
func (r Records[T]) Drop(ids ...string) error {
	for _, id := range ids {
		if _, err := r.record("delete", id); err != nil {
			return err
		}
	}
	return r.inBatch("delete", func(b *Batch) error {
		if _, err := r.last(b); err == nil && !b.find(r.k.d.name).Found() {
			last, _ := r.last(b)
			if last > 0 { // keep the number of a record that was put under it
				if err := b.set(r.k.d.name, value.Int(last)); err != nil {
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
func (r Records[T]) entries() []recordEntry {
	out := r.unordered()
	sorted.By(out, inOrder)
	return out
}

// unordered is entries in byte order of the ids.
func (r Records[T]) unordered() []recordEntry {
	ns, prefix := r.namespace(), r.k.d.name+"/"
	var out []recordEntry
	keep := func(name string, rec *ledger.Record) {
		if part := name[len(prefix):]; rec.Found() && !strings.Contains(part, "/") {
			out = append(out, recordEntry{r.key.id(part), rec})
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
func (r Records[T]) All() iter.Seq2[string, T] {
	return func(yield func(string, T) bool) {
		r.markRead()
		r.all()(yield)
	}
}

func (r Records[T]) all() iter.Seq2[string, T] {
	return func(yield func(string, T) bool) {
		ns := r.namespace()
		for _, e := range r.entries() {
			x, err := r.k.d.decode(e.rec.Value)
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
	return func(yield func(string, T) bool) {
		type record struct {
			id string
			x  T
		}
		var all []record
		for id, x := range r.All() {
			all = append(all, record{id, x})
		}
		slices.SortStableFunc(all, func(a, b record) int { return compare(a.x, b.x) })
		for _, one := range all {
			if !yield(one.id, one.x) {
				return
			}
		}
	}
}

// At returns one record as a variable, on which Add, Raise, Append and the like work. Writing it creates
// the record. A text that can't be an id is ErrInvalid when the variable is written.
func (r Records[T]) At(id string) Var[T] {
	r.namespace() // it panics for a zero Records
	return r.key.At(id).In(r.at)
}

// An ItemChange is a change of one record: see Records.Changes.
type ItemChange[T any] struct {
	Old, New T    // the zero T where there was or is no usable record
	Had, Has bool // whether the record existed before, and exists now
	First    bool // the record existed when Changes began
}

// Changes yields every record now, with First set, and then each record that was added, changed or
// dropped. A slow body gets several changes of one record as one. It ends as Watch does.
func (r Records[T]) Changes(ctx context.Context) iter.Seq2[string, ItemChange[T]] {
	return func(yield func(string, ItemChange[T]) bool) {
		records.Changes(r.Watch(ctx), func(id string) (x T, version int64, found bool) {
			n := r.namespace().l.Find(r.name(id))
			if n == nil || !n.Record().Found() {
				return x, 0, false
			}
			rec := n.Record()
			x, err := r.k.d.decode(rec.Value)
			return x, rec.Version, err == nil
		}, func(id string, old, new T, had, has, first bool) bool {
			return yield(id, ItemChange[T]{old, new, had, has, first})
		})
	}
}

// Len returns the number of records, including unusable ones.
func (r Records[T]) Len() int {
	r.markRead()
	return len(r.unordered())
}

// markRead notes that the program reads the records, even if there are none.
func (r Records[T]) markRead() { r.namespace().l.Node(r.k.d.name).MarkRead() }

// Watch yields all ids now, and then, after each change, the ids of the records that were added,
// changed or dropped, in the order of All: see Namespace.Watch.
func (r Records[T]) Watch(ctx context.Context) iter.Seq[[]string] {
	ns, prefix := r.namespace(), r.k.d.name+"/"
	if r.at.batch() != nil {
		misuse("Watch of %s in a batch: watch the records of the namespace", r.k.d.name)
	}
	return func(yield func([]string) bool) {
		r.markRead()
		for names := range ns.watch(ctx, nil, []string{prefix}) {
			var told []recordEntry
			now := ns.l.Snapshot()
			for _, name := range names {
				if part := name[len(prefix):]; !strings.Contains(part, "/") {
					told = append(told, recordEntry{r.key.id(part), now.Record(name)})
				}
			}
			now.Release()
			sorted.By(told, inOrder)
			ids := make([]string, len(told))
			for i, e := range told {
				ids[i] = e.id
			}
			if !yield(ids) {
				return
			}
		}
	}
}
