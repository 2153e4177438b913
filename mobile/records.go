package mobile

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/value"
)

// A Record is a few values under names of their own, which are one entry.
type Record struct{ all map[string]value.Value }

// NewRecord gives a record, empty yet.
func NewRecord() *Record { return &Record{} }

func (r *Record) set(name string, v value.Value) *Record {
	if r != nil {
		if r.all == nil {
			r.all = map[string]value.Value{}
		}
		r.all[name] = v
	}
	return r
}

// SetWhole puts a whole number into the record.
func (r *Record) SetWhole(name string, x int64) *Record { return r.set(name, value.Int(x)) }

// SetDecimal puts a number with a fraction into the record.
func (r *Record) SetDecimal(name string, x float64) *Record { return r.set(name, value.Float(x)) }

// SetSwitch puts what is true or false into the record.
func (r *Record) SetSwitch(name string, x bool) *Record { return r.set(name, value.Bool(x)) }

// SetText puts a text into the record.
func (r *Record) SetText(name, x string) *Record { return r.set(name, value.Text(x)) }

// SetTime puts a moment into the record, in milliseconds since 1970 (UTC). It stands there as
// text (RFC 3339), since times are entries of their own.
func (r *Record) SetTime(name string, millis int64) *Record {
	return r.set(name, value.Text(time.UnixMilli(millis).UTC().Format(moment)))
}

// moment is how a time stands in a record.
const moment = "2006-01-02T15:04:05.000Z"

// values gives what is in the record, to keep.
func (r *Record) values() (map[string]value.Value, error) {
	if r == nil {
		return nil, misuse("there is no record: make one with NewRecord")
	}
	if m := maps.Clone(r.all); m != nil {
		return m, nil
	}
	return map[string]value.Value{}, nil
}

// Remove takes a value out of the record.
func (r *Record) Remove(name string) {
	if r != nil {
		delete(r.all, name)
	}
}

// Has says whether there is a value of a name.
func (r *Record) Has(name string) bool { return r != nil && !r.all[name].IsZero() }

// Names gives those of its values, by their order.
func (r *Record) Names() *Texts {
	if r == nil {
		return NewTexts()
	}
	return &Texts{slices.Sorted(maps.Keys(r.all))}
}

// part gives a value of a record as one kind.
func part[T any](r *Record, name string, as func(value.Value) (T, bool)) (x T, err error) {
	if !r.Has(name) {
		return x, &failure{"absent", fmt.Sprintf("the record has no %s", name), pantry.ErrAbsent}
	}
	x, ok := as(r.all[name])
	if !ok {
		return x, &failure{"wrong-kind", fmt.Sprintf("the record's %s is of kind %s", name, r.all[name].Kind()), pantry.ErrWrongKind}
	}
	return x, nil
}

// Whole gives a whole number. The errors are absent and wrong-kind, as of the others.
func (r *Record) Whole(name string) (int64, error) { return part(r, name, value.Value.AsInt) }

// Decimal gives a number with a fraction, or a whole one that is exactly one.
func (r *Record) Decimal(name string) (float64, error) { return part(r, name, value.Value.AsFloat) }

// Switch gives what is true or false.
func (r *Record) Switch(name string) (bool, error) { return part(r, name, value.Value.AsBool) }

// Text gives a text.
func (r *Record) Text(name string) (string, error) { return part(r, name, value.Value.AsText) }

// Time gives a moment, in milliseconds since 1970 (UTC).
func (r *Record) Time(name string) (int64, error) {
	return part(r, name, func(v value.Value) (int64, bool) {
		text, _ := v.AsText()
		t, err := time.Parse(moment, text)
		return t.UnixMilli(), err == nil
	})
}

// A RecordsKey is of a collection of records, each an entry of its own.
type RecordsKey struct {
	keys *Keys
	k    pantry.RecordsKey[map[string]value.Value]
	made bool
}

// Records declares a collection of records.
func (k *Keys) Records(name string) *RecordsKey {
	r := &RecordsKey{keys: k}
	k.add(r, func() { r.k, r.made = pantry.RecordsOf[map[string]value.Value](name), true })
	return r
}

func (k *RecordsKey) declared() pantry.AnyKey { return k.k }

func (k *RecordsKey) of() *Keys { return k.keys }

func (k *RecordsKey) ready() error {
	if k == nil || !k.made {
		return misuse("this key was not declared with Keys")
	}
	return nil
}

// Records is a collection on a namespace, or in a commit.
type Records struct {
	r    pantry.Records[map[string]value.Value]
	made bool
}

// Bind gives the collection on a namespace that was opened with its keys.
func (k *RecordsKey) Bind(ns *Namespace) (*Records, error) { return k.in(ns.local(), ns) }

// In gives the collection in a commit.
func (k *RecordsKey) In(b *Batch) (*Records, error) { return k.in(b.local(), b.of()) }

func (k *RecordsKey) in(at pantry.Local, of *Namespace) (*Records, error) {
	if err := of.takes(k); err != nil {
		return nil, err
	}
	return &Records{k.k.In(at), true}, nil
}

func (r *Records) ready() error {
	if r == nil || !r.made {
		return misuse("this collection was not made by a key's bind")
	}
	return nil
}

// Add stores a record under the next number, which is never used again, and gives it.
func (r *Records) Add(one *Record) (id string, err error) {
	err = r.with(one, func(m map[string]value.Value) (err error) {
		id, err = r.r.Add(m)
		return err
	})
	return id, err
}

// Put stores a record under an id, in place of what was there.
func (r *Records) Put(id string, one *Record) error {
	return r.with(one, func(m map[string]value.Value) error { return r.r.Put(id, m) })
}

func (r *Records) with(one *Record, f func(map[string]value.Value) error) error {
	if err := r.ready(); err != nil {
		return err
	}
	m, err := one.values()
	if err == nil {
		err = f(m)
	}
	return told(err)
}

// Get gives a record. The error is absent where there is none.
func (r *Records) Get(id string) (*Record, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	m, found, err := r.r.Lookup(id)
	switch {
	case err != nil:
		return nil, told(err)
	case !found:
		return nil, &failure{"absent", fmt.Sprintf("there is no record %s", id), pantry.ErrAbsent}
	}
	return &Record{m}, nil
}

// Drop removes a record, if there is one.
func (r *Records) Drop(id string) error {
	if err := r.ready(); err != nil {
		return err
	}
	return told(r.r.Drop(id))
}

// Clear removes all records.
func (r *Records) Clear() error {
	if err := r.ready(); err != nil {
		return err
	}
	return told(r.r.Clear())
}

// Ids gives those of all records, in order: numbers by their size.
func (r *Records) Ids() (*Texts, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	out := NewTexts()
	for id := range r.r.All() {
		out.Add(id)
	}
	return out, nil
}

// Watch tells changed of each change of any of the records, and once at the beginning.
func (r *Records) Watch(run Runner, changed Handler) (*Watching, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	return watch(run, changed, handover.Each(r.r.Watch))
}
