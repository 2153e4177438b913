package pantry

import (
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A RecordsKey declares a collection: see RecordsOf and Family. It is immutable and safe for concurrent
// use.
type RecordsKey[T any] struct {
	_ [0]*T // so that a RecordsKey can't be converted to one of another type
	c collection
}

// A collection is what a RecordsKey declares.
type collection struct {
	*definition      // of a record; its name is that of the collection
	family      bool // ids are any text, as in Key.At
}

// RecordsOf declares a collection of records of any type that List accepts, mostly structs. Each record
// is an entry under name + "/" + id. An id is a text without "/" that is valid in a name. Add uses
// numbers as ids. The default of a record is the zero T.
func RecordsOf[T any](name string) RecordsKey[T] {
	return RecordsKey[T]{c: collection{definition: recordsOf(name, new(T))}}
}

// recordsOf returns the definition of a record, whose default is none, a *T.
func recordsOf(name string, none any) *definition {
	switch none.(type) {
	case *[]byte:
		return Bytes(name, nil).d
	case *time.Time:
		return Time(name, time.Time{}).d
	}
	kind := value.KindNone
	t := reflect.TypeOf(none).Elem()
	switch t.Kind() {
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
	case reflect.Map, reflect.Struct:
		kind = value.KindMap
	default:
		misuse("RecordsOf %s can't store %s; use a struct, or a type that List accepts", name, t)
	}
	d := composite(name, kind, none, none)
	if t.Kind() == reflect.Struct {
		d.members = membersOf(t)
	}
	return d
}

// Family declares all of k.At(…) as one collection, with the default and the rules of k: for example a
// counter for each gardener. They are read, sorted and cleared together. The id of a record is
// the text that At takes.
func Family[T any](k Key[T]) RecordsKey[T] {
	if k.definition().sealed {
		misuse("Family of %s: sealed keys have no collections", k.Name())
	}
	return RecordsKey[T]{c: collection{k.d, true}}
}

func (k RecordsKey[T]) behind() anyDefinition { return k.definition() }

// definition returns k's collection. It panics on a zero RecordsKey.
func (k RecordsKey[T]) definition() collection {
	if k.c.definition == nil {
		misuse("a zero RecordsKey was used; declare it with RecordsOf or Family")
	}
	return k.c
}

// Part returns the part of an entry's name for an id.
func (c collection) Part(id string) string {
	if c.family {
		return escapePart(id)
	}
	return id
}

// ID is the inverse of Part.
func (c collection) ID(part string) string {
	if c.family {
		return unescapePart(part)
	}
	return part
}

// Record returns the definition of the record with an id.
func (c collection) Record(id string) keydef.Definition { return c.record(id) }

func (c collection) record(id string) *definition {
	part := c.Part(id)
	d := c.member(part)
	if d.unnameable == nil {
		d.unnameable = oneID(id, part)
	}
	return d
}

// Check allows only records for which rule returns nil: see Key.Check. rule is not called for the
// zero T, which is no record.
func (k RecordsKey[T]) Check(rule func(T) error) RecordsKey[T] {
	if rule == nil {
		misuse("Check of %s needs a function, not nil", k.Name())
	}
	d := *k.definition().definition
	d.rules = append(slices.Clone(d.rules), ruleOf(rule))
	return RecordsKey[T]{c: collection{&d, k.c.family}}
}

// About describes the records in a few words.
func (k RecordsKey[T]) About(text string) RecordsKey[T] {
	d := *k.definition().definition
	d.about = text
	return RecordsKey[T]{c: collection{&d, k.c.family}}
}

// Name returns the collection's name: the first part of its entries' names.
func (k RecordsKey[T]) Name() string { return k.definition().name }

// Kind returns the kind of a record.
func (k RecordsKey[T]) Kind() value.Kind { return k.definition().kind }

// At returns the key of the record with an id. A text that can't be an id is ErrInvalid when it is
// written.
func (k RecordsKey[T]) At(id string) Key[T] { return Key[T]{d: k.definition().record(id)} }

// oneID returns an ErrInvalid if the part of a name for an id is more than one part.
func oneID(id, part string) error {
	if strings.Contains(part, "/") {
		return refuse.As(ErrInvalid, "an id can't contain a \"/\", as %s does", scan.Quote(id))
	}
	return nil
}

// Declared returns the declaration: a family.
func (k RecordsKey[T]) Declared() []DeclaredKey { return []DeclaredKey{k.definition().declared()} }

func (c collection) declared() DeclaredKey {
	k := DeclaredKey(c.Declaration())
	k.Default, k.Family = value.Value{}, true
	return k
}

// structure returns the members of the records' struct, or nil for maps.
func (c collection) structure() (m *members, family bool) { return c.members, true }

func (c collection) examine(ns *Namespace) {
	for range (recordSet{c, ns}).all() {
	}
}

// In returns the collection for this key in a namespace or in a batch.
func (k RecordsKey[T]) In(at Local) Records[T] {
	c := k.definition()
	if at == nil {
		misuse("In of %s needs a *Namespace or a *Batch, not nil", c.name)
	}
	at.namespace().noteUse(c.name, "")
	return Records[T]{r: recordSet{c, at}}
}
