package pantry

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// RenameKey is a schema step that moves what is stored under a name to another name: an entry, all
// records of a collection, or all members of a family. It does nothing if nothing is stored. The error
// is ErrConflict if the new name holds something already.
func RenameKey(from, to string) func(*Batch) error {
	return func(b *Batch) error {
		for _, e := range b.Entries(from) {
			rest, below := strings.CutPrefix(e.Name, from)
			if !below || rest != "" && rest[0] != '/' {
				continue
			}
			if err := b.Rename(e.Name, to+rest); err != nil {
				return err
			}
		}
		return nil
	}
}

// RenameMember is a schema step that renames a member of a stored struct, or of every record of a
// collection. The error is ErrConflict if a record has both members.
func RenameMember(name, from, to string) func(*Batch) error {
	return eachMap(name, func(e Entry) (value.Value, error) {
		var members []value.Member
		for _, m := range e.Value.Members() {
			if m.Name == from {
				if _, both := e.Value.Member(to); both {
					return value.Value{}, fmt.Errorf("%w: %s has both the members %s and %s", ErrConflict, e.Name, from, to)
				}
				m.Name = to
			}
			members = append(members, m)
		}
		return value.Map(members...)
	})
}

// DropKey is a schema step that removes an entry, and the records of a collection.
func DropKey(name string) func(*Batch) error {
	return func(b *Batch) error {
		for _, e := range b.Entries(name) {
			if e.Name == name || strings.HasPrefix(e.Name, name+"/") {
				if err := b.Drop(e.Name); err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// ConvertKey is a schema step that converts the stored value of a key to another type. It does nothing
// if nothing is stored. An error of convert, or a stored value that is no From, leaves the file as it
// is, and Open returns it.
func ConvertKey[From, To any](name string, convert func(From) (To, error)) func(*Batch) error {
	if convert == nil {
		misuse("ConvertKey of %s needs a function, not nil", name)
	}
	return func(b *Batch) error {
		e, found := b.Entry(name)
		if !found {
			return nil
		}
		v, err := converted(e, convert)
		if err == nil {
			err = b.Put(name, v)
		}
		return err
	}
}

// ConvertRecords is a schema step that converts every record of a collection to another type. Members
// of a record that From does not have are lost. Errors are those of ConvertKey.
func ConvertRecords[From, To any](collection string, convert func(From) (To, error)) func(*Batch) error {
	if convert == nil {
		misuse("ConvertRecords of %s needs a function, not nil", collection)
	}
	return eachMap(collection, func(e Entry) (value.Value, error) {
		if e.Name == collection {
			return e.Value, nil // the newest number, or a struct of its own
		}
		return converted(e, convert)
	})
}

// eachMap returns a step that changes a stored struct and the records of a collection.
func eachMap(name string, change func(Entry) (value.Value, error)) func(*Batch) error {
	return func(b *Batch) error {
		for _, e := range b.Entries(name) {
			if e.Name != name && !strings.HasPrefix(e.Name, name+"/") || e.Value.Kind() != value.KindMap {
				continue
			}
			v, err := change(e)
			if err == nil && !value.Equal(v, e.Value) {
				err = b.Put(e.Name, v)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
}

// converted returns the converted value of an entry.
func converted[From, To any](e Entry, convert func(From) (To, error)) (value.Value, error) {
	old, err := valueAs[From](e.Value)
	if err != nil {
		return value.Value{}, refuse.As(ErrWrongKind, "%s holds %s, which is no %s: %v", e.Name, e.Value.Kind(), reflect.TypeFor[From](), err)
	}
	next, err := convert(old)
	if err != nil {
		return value.Value{}, fmt.Errorf("convert %s: %w", e.Name, err)
	}
	switch x := any(next).(type) {
	case time.Time:
		return value.Time(x), nil
	case []byte:
		return value.Bytes(x), nil
	}
	return coderOf(reflect.TypeFor[To]()).enc(reflect.ValueOf(&next).Elem(), 0)
}

func valueAs[T any](v value.Value) (x T, err error) {
	switch at := any(&x).(type) {
	case *time.Time:
		if t, ok := v.AsTime(); ok {
			*at = t
			return x, nil
		}
	case *[]byte:
		if b, ok := v.AsBytes(); ok {
			*at = b
			return x, nil
		}
	}
	err = coderOf(reflect.TypeFor[T]()).dec(v, reflect.ValueOf(&x).Elem())
	return x, err
}
