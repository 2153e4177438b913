package pantry

import (
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A RecordsKey declares a collection: see RecordsOf and Family. It is immutable and safe for concurrent
// use.
type RecordsKey[T any] struct {
	one    Key[T]
	family bool // ids are any text, as in Key.At
}

// RecordsOf declares a collection of records of any type that List accepts, mostly structs. Each record
// is an entry under name + "/" + id. An id is a text without "/" that is valid in a name. Add uses
// numbers as ids. The default of a record is the zero T.
func RecordsOf[T any](name string) RecordsKey[T] {
	var none T
	switch any(none).(type) {
	case []byte:
		return RecordsKey[T]{one: any(Bytes(name, nil)).(Key[T])}
	case time.Time:
		return RecordsKey[T]{one: any(Time(name, time.Time{})).(Key[T])}
	}
	kind := value.KindNone
	switch t := reflect.TypeFor[T](); t.Kind() {
	case reflect.Bool:
		kind = value.KindBool
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint8, reflect.Uint16, reflect.Uint32:
		kind = value.KindInt
	case reflect.Float32, reflect.Float64:
		kind = value.KindFloat
	case reflect.String:
		kind = value.KindText
	case reflect.Slice:
		kind = value.KindList
	case reflect.Map:
		kind = value.KindMap
	case reflect.Struct:
		return RecordsKey[T]{one: Object(name, none)}
	default:
		misuse("RecordsOf %s can't store %s; use a struct, or a type that List accepts", name, t)
	}
	return RecordsKey[T]{one: composite(name, kind, none, none)}
}

// Family declares all of k.At(…) as one collection, with the default and the rules of k: for example a
// counter for each gardener. They are read, sorted and cleared together. The id of a record is
// the text that At takes.
func Family[T any](k Key[T]) RecordsKey[T] {
	if k.definition().sealed {
		misuse("Family of %s: sealed keys have no collections", k.Name())
	}
	return RecordsKey[T]{one: k, family: true}
}

// part returns the part of an entry's name for an id.
func (k RecordsKey[T]) part(id string) string {
	if k.family {
		return escapePart(id)
	}
	return id
}

// id is the inverse of part.
func (k RecordsKey[T]) id(part string) string {
	if k.family {
		return unescapePart(part)
	}
	return part
}

// Check allows only records for which rule returns nil: see Key.Check. rule is not called for the
// zero T, which is no record.
func (k RecordsKey[T]) Check(rule func(T) error) RecordsKey[T] {
	if rule == nil {
		misuse("Check of %s needs a function, not nil", k.Name())
	}
	d := *k.one.definition()
	d.rules = append(slices.Clone(d.rules), rule)
	k.one = Key[T]{&d}
	return k
}

// About describes the records in a few words.
func (k RecordsKey[T]) About(text string) RecordsKey[T] {
	d := *k.one.definition()
	d.about = text
	k.one = Key[T]{&d}
	return k
}

// Name returns the collection's name: the first part of its entries' names.
func (k RecordsKey[T]) Name() string { return k.one.Name() }

// Kind returns the kind of a record.
func (k RecordsKey[T]) Kind() value.Kind { return k.one.Kind() }

// At returns the key of the record with an id. A text that can't be an id is ErrInvalid when it is
// written.
func (k RecordsKey[T]) At(id string) Key[T] {
	part := k.part(id)
	m := k.one.member(part)
	if m.d.unnameable == nil {
		m.d.unnameable = oneID(id, part)
	}
	return m
}

// oneID returns an ErrInvalid if the part of a name for an id is more than one part.
func oneID(id, part string) error {
	if strings.Contains(part, "/") {
		return refuse.As(ErrInvalid, "an id can't contain a \"/\", as %s does", scan.Quote(id))
	}
	return nil
}

// Declared returns the declaration: a family.
func (k RecordsKey[T]) Declared() []DeclaredKey {
	d := k.one.definition()
	return []DeclaredKey{{Name: d.name, Kind: d.kind, About: d.about, Min: d.min, Max: d.max, Keep: d.keep, Choices: d.choice, Family: true}}
}

// structure returns the members of the records' struct, or nil for maps.
func (k RecordsKey[T]) structure() (m *members, family bool) { return k.one.definition().members, true }

func (k RecordsKey[T]) unkept() string { return k.one.unkept() }

func (k RecordsKey[T]) kept(v value.Value) (value.Value, error) { return k.one.kept(v) }

func (k RecordsKey[T]) examine(ns *Namespace) {
	for range k.In(ns).all() {
	}
}
