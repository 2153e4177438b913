package pantry

import (
	"fmt"
	"reflect"
	"slices"

	"github.com/small-pantry/pantry/internal/fieldname"
	"github.com/small-pantry/pantry/value"
)

// A field is one member of a struct.
type field struct {
	name  string
	index []int
	*coder
}

// fieldsOf returns the fields of a struct that are stored, and describes those that are not. A field of
// an embedded struct counts as the struct's own.
func fieldsOf(t reflect.Type, building map[reflect.Type]*coder) (fields []field, unkept string) {
	seen := map[string]string{}
	for _, f := range reflect.VisibleFields(t) {
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			continue // its fields are promoted
		}
		name, stored := fieldname.Of(f.Name, f.Tag)
		switch {
		case !f.IsExported():
			unkept = fmt.Sprintf("the field %s of %s does not survive, since it is not exported; start its name with a capital letter", f.Name, t)
			continue
		case !stored:
			unkept = fmt.Sprintf("the field %s of %s does not survive, since its tag excludes it", f.Name, t)
			continue
		case len(f.Index) > 1 && throughPointer(t, f.Index):
			misuse("the struct %s embeds a pointer with the field %s, which can't be stored; embed the struct itself", t, f.Name)
		}
		if other := seen[name]; other != "" {
			misuse("the fields %s and %s of %s are both stored as %q; give one a tag pantry:\"…\"", other, f.Name, t, name)
		}
		seen[name] = f.Name
		c := build(f.Type, building)
		if c.unkept != "" {
			unkept = c.unkept
		}
		fields = append(fields, field{name, f.Index, c})
	}
	return fields, unkept
}

func throughPointer(t reflect.Type, index []int) bool {
	for _, i := range index[:len(index)-1] {
		f := t.Field(i)
		if f.Type.Kind() == reflect.Pointer {
			return true
		}
		t = f.Type
	}
	return false
}

func (c *coder) structure(t reflect.Type, building map[reflect.Type]*coder) {
	fields, unkept := fieldsOf(t, building)
	if len(fields) == 0 {
		misuse("the struct %s has no exported field, so nothing of it would be stored", t)
	}
	c.unkept = unkept
	c.merge = mergeFields(fields)
	for _, f := range fields {
		c.refers = c.refers || f.refers
	}
	c.copy = func(dst, src reflect.Value) {
		dst.Set(src)
		for _, f := range fields {
			if f.refers {
				to := dst.FieldByIndex(f.index)
				to.SetZero()
				f.copy(to, src.FieldByIndex(f.index))
			}
		}
	}
	c.enc = func(x reflect.Value, deep int) (value.Value, error) {
		members := make([]value.Member, len(fields))
		for i, f := range fields {
			v, err := f.enc(x.FieldByIndex(f.index), deep+1)
			if err != nil {
				return value.Value{}, fmt.Errorf("%s: %w", f.name, err)
			}
			members[i] = value.Member{Name: f.name, Value: v}
		}
		return value.Map(members...)
	}
	// A missing member leaves the field at its zero value, so that a new field reads old entries.
	c.dec = func(v value.Value, x reflect.Value) error {
		if v.Kind() != value.KindMap {
			return want(false, v, value.KindMap)
		}
		for _, f := range fields {
			if m, found := v.Member(f.name); found {
				if err := f.dec(m, x.FieldByIndex(f.index)); err != nil {
					return fmt.Errorf("%s: %w", f.name, err)
				}
			}
		}
		return nil
	}
}

// mergeFields makes the merge function of a struct: a program that knows fewer fields keeps the
// others.
func mergeFields(fields []field) func(now, old value.Value) value.Value {
	return func(now, old value.Value) value.Value {
		if now.Kind() != value.KindMap || old.Kind() != value.KindMap {
			return now
		}
		members := now.Members()
		for _, m := range old.Members() {
			i := slices.IndexFunc(members, func(have value.Member) bool { return have.Name == m.Name })
			if i < 0 {
				members = append(members, m)
				continue
			}
			for _, f := range fields {
				if f.name == m.Name && f.merge != nil {
					members[i].Value = f.merge(members[i].Value, m.Value)
				}
			}
		}
		merged, err := value.Map(members...)
		if err != nil {
			return now // the names of two maps, each once
		}
		return merged
	}
}
