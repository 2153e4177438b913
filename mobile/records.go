package mobile

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/value"
)

// A Record is a set of named values that is stored as one entry.
type Record struct{ all map[string]value.Value }

// NewRecord returns an empty record.
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

// SetInt sets an integer.
func (r *Record) SetInt(name string, x int64) *Record { return r.set(name, intPart.in(x)) }

// SetFloat sets a float.
func (r *Record) SetFloat(name string, x float64) *Record { return r.set(name, floatPart.in(x)) }

// SetBool sets a boolean.
func (r *Record) SetBool(name string, x bool) *Record { return r.set(name, boolPart.in(x)) }

// SetText sets a text.
func (r *Record) SetText(name, x string) *Record { return r.set(name, textPart.in(x)) }

// SetBytes sets bytes, which a record holds as base64 text (RFC 4648, section 4).
func (r *Record) SetBytes(name string, x []byte) *Record { return r.set(name, bytesPart.in(x)) }

// SetTime sets a moment, in milliseconds since 1970 (UTC), which a record holds as text (RFC 3339).
func (r *Record) SetTime(name string, millis int64) *Record { return r.set(name, timePart.in(millis)) }

// SetDuration sets a duration, in milliseconds, which a record holds as nanoseconds.
func (r *Record) SetDuration(name string, millis int64) *Record {
	return r.set(name, durationPart.in(millis))
}

// SetItems sets a list. Null is an empty one.
func (r *Record) SetItems(name string, l *Items) *Record {
	if l == nil {
		l = NewItems()
	}
	return r.set(name, value.List(l.all...))
}

// RecordFromJSON returns the record of a JSON object (RFC 8259). The error is invalid for anything else.
func RecordFromJSON(text string) (*Record, error) {
	v, err := value.ParseAny([]byte(text))
	if err == nil && v.Kind() != value.KindMap {
		err = fmt.Errorf("it is a %s, and a record is an object", v.Kind())
	}
	if err != nil {
		return nil, handover.Failure("invalid", "this is not a record in JSON: "+err.Error(), errors.Join(pantry.ErrInvalid, err))
	}
	r := NewRecord()
	for _, m := range v.Members() {
		r.set(m.Name, m.Value)
	}
	return r, nil
}

// JSON returns the record as a JSON object.
func (r *Record) JSON() (string, error) {
	all, err := r.ForBoard()
	if err != nil {
		return "", err
	}
	var members []value.Member
	for _, name := range slices.Sorted(maps.Keys(all)) {
		members = append(members, value.Member{Name: name, Value: all[name]})
	}
	v, err := value.Map(members...)
	return v.String(), handover.Coded(err)
}

// Remove removes a value from the record.
func (r *Record) Remove(name string) {
	if r != nil {
		delete(r.all, name)
	}
}

// Has reports whether the record has a value with a name.
func (r *Record) Has(name string) bool { return r != nil && !r.all[name].IsZero() }

// Names returns the names of the values, sorted.
func (r *Record) Names() *Texts {
	if r == nil {
		return NewTexts()
	}
	return &Texts{slices.Sorted(maps.Keys(r.all))}
}

// member returns a value of a record as one kind.
func member[M any](r *Record, name string, as func(value.Value) (M, bool)) (x M, err error) {
	if !r.Has(name) {
		return x, handover.Failure("absent", fmt.Sprintf("the record has no %s", name), pantry.ErrAbsent)
	}
	x, ok := as(r.all[name])
	if !ok {
		return x, handover.Failure("wrong-kind", fmt.Sprintf("the record's %s is of kind %s", name, r.all[name].Kind()), pantry.ErrWrongKind)
	}
	return x, nil
}

// GetInt returns an integer. The errors of this and the following methods are absent and wrong-kind.
func (r *Record) GetInt(name string) (int64, error) { return member(r, name, intPart.out) }

// GetFloat returns a float, or an integer that a float can represent exactly.
func (r *Record) GetFloat(name string) (float64, error) { return member(r, name, floatPart.out) }

// GetBool returns a boolean.
func (r *Record) GetBool(name string) (bool, error) { return member(r, name, boolPart.out) }

// GetText returns a text.
func (r *Record) GetText(name string) (string, error) { return member(r, name, textPart.out) }

// GetBytes returns bytes.
func (r *Record) GetBytes(name string) ([]byte, error) { return member(r, name, bytesPart.out) }

// GetTime returns a moment, in milliseconds since 1970 (UTC).
func (r *Record) GetTime(name string) (int64, error) { return member(r, name, timePart.out) }

// GetDuration returns a duration, in milliseconds.
func (r *Record) GetDuration(name string) (int64, error) { return member(r, name, durationPart.out) }

// GetItems returns a list.
func (r *Record) GetItems(name string) (*Items, error) {
	return member(r, name, func(v value.Value) (*Items, bool) {
		return &Items{v.Items()}, v.Kind() == value.KindList
	})
}

// A RecordsKey is a key for a collection of records. Each record is an entry.
type RecordsKey struct {
	keys *Keys
	k    pantry.RecordsKey[map[string]value.Value]
	made bool
}

// RecordsKey declares a collection of records.
func (k *Keys) RecordsKey(name string) *RecordsKey {
	r := &RecordsKey{keys: k}
	k.add(r, func() { r.k, r.made = pantry.RecordsOf[map[string]value.Value](name), true })
	return r
}

func (k *RecordsKey) declared() pantry.AnyKey { return k.k }

func (k *RecordsKey) of() *Keys { return k.keys }

func (k *RecordsKey) ready() error {
	if k == nil || !k.made {
		return handover.Misuse("this key was not declared with Keys")
	}
	return nil
}

// Records is a collection in a namespace, or in a commit.
type Records struct {
	r    pantry.Records[map[string]value.Value]
	made bool
}

// Bind returns the collection in a namespace that was opened with its keys.
func (k *RecordsKey) Bind(ns *Namespace) (*Records, error) { return k.in(ns.local(), ns) }

// In returns the collection in a commit.
func (k *RecordsKey) In(b *Batch) (*Records, error) { return k.in(b.local(), b.of()) }

func (k *RecordsKey) in(at pantry.Local, of *Namespace) (*Records, error) {
	if err := of.takes(k); err != nil {
		return nil, err
	}
	return &Records{k.k.In(at), true}, nil
}

func (r *Records) ready() error {
	if r == nil || !r.made {
		return handover.Misuse("this collection was not made by a key's bind")
	}
	return nil
}

// Add stores a record under the next number, which is never used again, and returns the number.
func (r *Records) Add(one *Record) (id string, err error) {
	err = r.with(one, func(m map[string]value.Value) (err error) {
		id, err = r.r.Add(m)
		return err
	})
	return id, err
}

// Put stores a record under an id and replaces an existing one.
func (r *Records) Put(id string, one *Record) error {
	return r.with(one, func(m map[string]value.Value) error { return r.r.Put(id, m) })
}

func (r *Records) with(one *Record, f func(map[string]value.Value) error) error {
	if err := r.ready(); err != nil {
		return err
	}
	m, err := one.ForBoard()
	if err == nil {
		err = f(m)
	}
	return handover.Coded(err)
}

// Get returns a record. If there is none, the error is absent.
func (r *Records) Get(id string) (*Record, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	m, found, err := r.r.Lookup(id)
	switch {
	case err != nil:
		return nil, handover.Coded(err)
	case !found:
		return nil, handover.Failure("absent", fmt.Sprintf("there is no record %s", id), pantry.ErrAbsent)
	}
	return &Record{m}, nil
}

// Drop removes a record if there is one.
func (r *Records) Drop(id string) error {
	if err := r.ready(); err != nil {
		return err
	}
	return handover.Coded(r.r.Drop(id))
}

// Clear removes all records.
func (r *Records) Clear() error {
	if err := r.ready(); err != nil {
		return err
	}
	return handover.Coded(r.r.Clear())
}

// Ids returns the ids of all records, in order: numbers by size.
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

// Watch calls changed after each change of a record, and once at the beginning.
func (r *Records) Watch(run Runner, changed Handler) (*Watching, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	return WatchChanges(run, changed, handover.Each(r.r.Watch))
}
