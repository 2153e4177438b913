package pantry

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/fieldname"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/value"
)

// A FieldsKey declares a struct whose fields are entries of their own, such as settings: see
// Fields. It is immutable and safe for concurrent use.
type FieldsKey[T any] struct {
	_ [0]*T // so that a FieldsKey can't be converted to one of another type
	d *fieldsDefinition
}

// A fieldsDefinition is what a FieldsKey declares. Each x is a *T: see definition.
type fieldsDefinition struct {
	codec  // of the struct as one value, for copies
	name   string
	def    any
	fields []fieldEntry
	rules  []func(x any) error
	unkept string
}

// A fieldEntry is a field of a struct as an entry.
type fieldEntry struct {
	field
	kind value.Kind
	key  AnyKey // the rules of the field's key; nil means none
}

// Fields declares a struct of settings. Each exported field is an entry. Its name is the tag
// pantry:"…", else the tag json:"…", else the field's name in small letters with hyphens:
// ReminderHour is reminder-hour. A tag can put the entry in a family, for example
// pantry:"tank/litres". The fields of def are the defaults.
//
// A field can be a bool, a number, a string, []byte, time.Time, a slice, a map with string keys, a
// struct, or a type with MarshalText.
func Fields[T any](def T) FieldsKey[T] { return FieldsKey[T]{d: newFieldsDefinition(&def)} }

func newFieldsDefinition(def any) *fieldsDefinition {
	t := reflect.TypeOf(def).Elem()
	if t.Kind() != reflect.Struct {
		misuse("Fields needs a struct, not %s", t)
	}
	fields, unkept := fieldsOf(t, map[reflect.Type]*coder{})
	name, _ := fieldname.Of(t.Name(), "")
	d := &fieldsDefinition{name: name, unkept: unkept, codec: codecOf(value.KindMap, def)}
	d.def = d.Copy(def)
	for _, f := range fields {
		if err := CheckName(f.name); err != nil {
			misuse("the field %s of %s: %v", t.FieldByIndex(f.index).Name, t, err)
		}
		e := entryField(f, t.FieldByIndex(f.index).Type)
		d.fields = append(d.fields, e)
		v, err := e.enc(e.in(d.def), 0)
		if err == nil {
			err = v.Check()
		}
		if err != nil {
			misuse("the default of %s can't be stored: %v", f.name, err)
		}
	}
	return d
}

// in returns the field of the struct that x points to.
func (f fieldEntry) in(x any) reflect.Value { return reflect.ValueOf(x).Elem().FieldByIndex(f.index) }

// entryField returns a field's kind as an entry. Bytes and times have kinds of their own there.
func entryField(f field, t reflect.Type) fieldEntry {
	e := fieldEntry{field: f}
	own := *f.coder
	switch {
	case t == typeTime:
		e.kind = value.KindTime
		k := Time(f.name, time.Time{})
		own.enc = func(x reflect.Value, _ int) (value.Value, error) { return k.d.enc(x.Addr().Interface()) }
		own.dec = func(v value.Value, x reflect.Value) error {
			at, err := k.d.dec(v)
			if err == nil {
				x.Set(reflect.ValueOf(at).Elem())
			}
			return err
		}
	case t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Uint8:
		e.kind = value.KindBytes
		own.enc = func(x reflect.Value, _ int) (value.Value, error) { return value.Bytes(x.Bytes()), nil }
		own.dec = func(v value.Value, x reflect.Value) error {
			b, ok := v.AsBytes()
			x.SetBytes(b)
			return want(ok, v, value.KindBytes)
		}
	case t.Kind() == reflect.Pointer, t.Kind() == reflect.Interface:
		misuse("the field %s is of type %s, which can't be an entry by itself, since nil is no value; use the type that it points to", f.name, t)
	default:
		v, err := f.enc(reflect.New(t).Elem(), 0)
		if err != nil {
			misuse("the zero value of the field %s can't be stored: %v", f.name, err)
		}
		e.kind = v.Kind()
	}
	e.coder = &own
	return e
}

// With applies the rules of keys to the fields of the same names: Between, the choices of OneOf,
// Check, Keep and About. A stored field that its key refuses reads as its default and is reported;
// the other fields are not affected. The default is that of the struct. It must be within the key's
// Between and choices. A key also provides Format, Choices and Parse for a screen:
//
//	hour := pantry.Int("reminder-hour", 18).Between(0, 23)
//	settings := pantry.Fields(Settings{ReminderHour: 18}).With(hour)
func (k FieldsKey[T]) With(keys ...AnyKey) FieldsKey[T] {
	return FieldsKey[T]{d: k.definition().with(keys)}
}

func (d *fieldsDefinition) with(keys []AnyKey) *fieldsDefinition {
	changed := *d
	changed.fields = slices.Clone(d.fields)
	for _, key := range keys {
		if key == nil {
			misuse("With of %s needs keys, not nil", d.name)
		}
		i := slices.IndexFunc(changed.fields, func(f fieldEntry) bool { return f.name == key.Name() })
		if i < 0 {
			misuse("With of %s: it has no field %s", d.name, key.Name())
		}
		f := &changed.fields[i]
		if declared := key.Declared(); len(declared) != 1 || declared[0].Family || declared[0].Name != f.name {
			misuse("With of %s needs keys of one entry, such as Int or OneOf", d.name)
		}
		if key.Kind() != f.kind {
			misuse("With of %s: the field %s is %s, and the key is %s", d.name, f.name, f.kind, key.Kind())
		}
		f.key = key
		def, _ := f.enc(f.in(d.def), 0)
		if err := declarations(key)[0].Judge(def); err != nil {
			misuse("With of %s: the default of %s: %v", d.name, f.name, err)
		}
	}
	return &changed
}

// Check allows only structs for which rule returns nil: see Key.Check.
func (k FieldsKey[T]) Check(rule func(T) error) FieldsKey[T] {
	d := *k.definition()
	if rule == nil {
		misuse("Check of %s needs a function, not nil", d.name)
	}
	d.rules = append(slices.Clone(d.rules), ruleOf(rule))
	return FieldsKey[T]{d: &d}
}

func (k FieldsKey[T]) behind() anyDefinition { return k.definition() }

// definition returns k's definition. It panics on a zero FieldsKey.
func (k FieldsKey[T]) definition() *fieldsDefinition {
	if k.d == nil {
		misuse("a zero FieldsKey was used; declare it with Fields")
	}
	return k.d
}

// Name returns the name of the struct's type in small letters with hyphens. The entries have the
// names of the fields.
func (k FieldsKey[T]) Name() string { return k.definition().name }

// Kind returns map. Each field has a kind of its own.
func (k FieldsKey[T]) Kind() value.Kind { return value.KindMap }

// Default returns a copy of the struct of the defaults.
func (k FieldsKey[T]) Default() T { return keydef.Value[T](k.definition().Copy(k.d.def)) }

// Unkept describes what of the struct does not survive being stored.
func (d *fieldsDefinition) Unkept() string { return d.unkept }

// Kept returns v, since each field has rules of its own.
func (d *fieldsDefinition) Kept(v value.Value) (value.Value, error) { return v, nil }

func (d *fieldsDefinition) structure() (m *members, family bool) { return nil, false }

func (d *fieldsDefinition) examine(ns *Namespace) { d.bind(ns).moment() }

// Declared returns the declarations, one per field.
func (k FieldsKey[T]) Declared() []DeclaredKey { return k.definition().declared() }

func (d *fieldsDefinition) declared() (out []DeclaredKey) {
	for _, f := range d.fields {
		one := DeclaredKey{Name: f.name, Kind: f.kind}
		if f.key != nil {
			one = f.key.Declared()[0]
		}
		one.Default, _ = f.enc(f.in(d.def), 0)
		out = append(out, one)
	}
	return out
}

// decode returns the struct for the fields' values. A field that is absent or unusable has its
// default. found reports whether one is stored, and errs says, by field, why one is unusable.
func (d *fieldsDefinition) decode(stored func(i int) value.Value) (x any, found bool, errs []error) {
	defaults := reflect.ValueOf(d.Copy(d.def)).Elem()
	into := reflect.New(defaults.Type())
	into.Elem().Set(defaults)
	errs = make([]error, len(d.fields))
	for i, f := range d.fields {
		v := stored(i)
		if v.IsZero() {
			continue
		}
		found = true
		at := into.Elem().FieldByIndex(f.index)
		if err := f.decode(v, at); err != nil {
			errs[i] = unusable(v, err)
			at.Set(reflect.ValueOf(d.Copy(d.def)).Elem().FieldByIndex(f.index))
		}
	}
	return into.Interface(), found, errs
}

// Decode returns the struct for stored values, by the names of the fields' entries: see Names. A
// field that is absent or unusable has its default; errs says why, by name. found reports whether
// anything is stored.
func (k FieldsKey[T]) Decode(stored func(name string) value.Value) (x T, found bool, errs map[string]error) {
	all, found, errs := k.definition().decodeNamed(stored)
	return keydef.Value[T](all), found, errs
}

func (d *fieldsDefinition) decodeNamed(stored func(name string) value.Value) (x any, found bool, errs map[string]error) {
	x, found, all := d.decode(func(i int) value.Value { return stored(d.fields[i].name) })
	for i, err := range all {
		if err != nil {
			if errs == nil {
				errs = map[string]error{}
			}
			errs[d.fields[i].name] = err
		}
	}
	return x, found, errs
}

// Encode checks x against the key's rules and returns the values to store, by the names of the
// fields' entries. The error wraps ErrInvalid.
func (k FieldsKey[T]) Encode(x T) (map[string]value.Value, error) { return k.definition().encode(&x) }

func (d *fieldsDefinition) encode(x any) (map[string]value.Value, error) {
	if err := checkAll(d.rules, x); err != nil {
		return nil, err
	}
	out := make(map[string]value.Value, len(d.fields))
	for _, f := range d.fields {
		v, err := f.enc(f.in(x), 0)
		if err == nil && f.key != nil {
			v, err = f.key.behind().Kept(v)
		}
		if err == nil {
			err = v.Check()
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		out[f.name] = v
	}
	return out, nil
}

// Names returns the names of the fields' entries, in the order of the fields.
func (k FieldsKey[T]) Names() []string { return k.definition().names() }

func (d *fieldsDefinition) names() (names []string) {
	for _, f := range d.fields {
		names = append(names, f.name)
	}
	return names
}

// Copy returns a copy of x that shares no memory with it.
func (k FieldsKey[T]) Copy(x T) T { return keydef.Value[T](k.definition().Copy(&x)) }

// decode assigns a stored value to the field.
func (f fieldEntry) decode(v value.Value, into reflect.Value) error {
	if v.Kind() != f.kind && (f.kind != value.KindFloat || v.Kind() != value.KindInt) {
		return kindError(v.Kind(), f.kind)
	}
	if f.key != nil {
		if _, err := f.key.behind().Kept(v); err != nil {
			return err
		}
	}
	return f.dec(v, into)
}
