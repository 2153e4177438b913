package pantry

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/value"
)

// A definition is what a Key declares. It does not depend on the key's type T: each x is a *T. So the
// compiler makes the code behind the keys once, and not again for each T. It is immutable.
type definition struct {
	codec
	name     string
	family   string // the key's name before At; empty if At was not called
	kind     value.Kind
	def      any
	rules    []func(x any) error
	min, max value.Value // the zero Value means no bound
	choice   []string
	keep     int
	sealed   bool
	about    string
	typed    func(string) (x any, err error) // parses what a user typed; nil means by kind
	format   func(x any) string              // the inverse of typed
	ask      string                          // what a user has to enter; empty means by kind
	unkept   string
	members  *members    // of an Object's struct; else nil
	start    value.Value // def, encoded

	unnameable error // why the name is invalid; a user may have typed part of it
}

// anyDefinition is what AnyKey has behind it: a *definition, *fieldsDefinition or collection.
type anyDefinition interface {
	examine(ns *Namespace) // reports a stored value that can't be used
	Unkept() string        // describes what does not survive a round trip; empty if all does
	// Kept returns a value as the key would store it, or an error if the key would refuse it.
	Kept(v value.Value) (value.Value, error)
	// structure returns the members of a struct that is one entry, else nil.
	structure() (m *members, family bool)
}

func init() {
	keydef.Of = func(key any) keydef.Definition { return definitionOf(key).(*definition) }
	keydef.OfRecords = func(key any) keydef.Collection { return definitionOf(key).(collection) }
	keydef.Unkept = func(key any) string { return definitionOf(key).Unkept() }
}

func definitionOf(key any) anyDefinition { return key.(AnyKey).behind() }

func newDefinition(name string, kind value.Kind, def any, c codec) *definition {
	if err := CheckName(name); err != nil {
		misuse("%v", err)
	}
	d := &definition{codec: c, name: name, kind: kind, def: def}
	var err error
	if d.start, err = d.EncodeUnchecked(def); err != nil {
		misuse("the default of %s can't be stored: %v", name, err)
	}
	d.def = d.Copy(def)
	return d
}

func (d *definition) changed(f func(d *definition)) *definition {
	changed := *d
	changed.rules = slices.Clone(d.rules)
	f(&changed)
	if err := changed.bounded(changed.def); err != nil {
		misuse("the default of %s breaks its own rule: %v", d.name, err)
	}
	return &changed
}

func (d *definition) between(lo, hi any) *definition {
	return d.changed(func(d *definition) {
		var err1, err2 error
		d.min, err1 = d.enc(lo)
		d.max, err2 = d.enc(hi)
		order, ok := value.Compare(d.min, d.max)
		switch {
		case err1 != nil || err2 != nil || !ok:
			misuse("Between of %s needs values with an order: numbers, text, bytes or times; use Check for %s", d.name, d.kind)
		case order > 0:
			misuse("Between of %s has its bounds in the wrong order: write Between(%v, %v)", d.name, reflect.ValueOf(hi).Elem(), reflect.ValueOf(lo).Elem())
		}
	})
}

func (d *definition) keeping(n int) *definition {
	return d.changed(func(d *definition) {
		if d.kind != value.KindList || n < 1 {
			misuse("Keep of %s needs a list and at least 1", d.name)
		}
		if d.start.Len() > n {
			misuse("the default of %s has %d items, and Keep(%d) allows fewer", d.name, d.start.Len(), n)
		}
		d.keep = n
	})
}

// member returns the definition of a name in the family.
func (d *definition) member(part string) *definition {
	member := *d
	if d.family == "" {
		member.family = d.name
	}
	member.name += "/" + part
	member.unnameable = CheckName(member.name)
	return &member
}

// Name returns the name of the entry.
func (d *definition) Name() string { return d.name }

// Declaration returns the declaration of the key.
func (d *definition) Declaration() entry.Key {
	k := entry.Key{Name: d.name, Kind: d.stored(), About: d.about, Min: d.min, Max: d.max, Keep: d.keep, Choices: d.choice}
	if !d.sealed {
		k.Default = d.start
	}
	return k
}

// stored returns the kind of the stored values.
func (d *definition) stored() value.Kind {
	if d.sealed {
		return value.KindSealed
	}
	return d.kind
}

// Default returns a copy of the default.
func (d *definition) Default() any { return d.Copy(d.def) }

// Copies reports whether Copy copies anything: T holds a slice, a map, a pointer or an interface.
func (d *definition) Copies() bool { return d.clone != nil }

// Encode checks x and returns the value to store.
func (d *definition) Encode(x any) (value.Value, error) {
	if err := d.check(x); err != nil {
		return value.Value{}, err
	}
	v, err := d.enc(x)
	if err == nil {
		v, _, err = value.Op{Verb: value.Put, Operand: v, Keep: d.keep}.Apply(value.Value{})
	}
	if err == nil {
		err = v.Check()
	}
	return v, err
}

// EncodeUnchecked is Encode without the key's rules, for example for one item of a list.
func (d *definition) EncodeUnchecked(x any) (value.Value, error) {
	v, err := d.enc(x)
	if err == nil {
		err = v.Check()
	}
	return v, err
}

// Decode returns what a stored value means to the key.
func (d *definition) Decode(v value.Value) (any, error) {
	x, err := d.dec(v)
	if err == nil {
		err = d.check(x)
	}
	return x, err
}

// DecodeUnchecked is Decode without the key's rules.
func (d *definition) DecodeUnchecked(v value.Value) (any, error) { return d.dec(v) }

// Kept returns a value as the key would store it, or the error with which it would refuse it.
func (d *definition) Kept(v value.Value) (value.Value, error) {
	x, err := d.Decode(v)
	if err != nil {
		return v, err
	}
	return d.Encode(x)
}

// Merged returns v, which Encode made, with the members of stored that T does not know. A newer
// program may have stored them. If v is no struct, Merged returns v.
func (d *definition) Merged(v, stored value.Value) value.Value {
	if d.merge == nil || stored.IsZero() {
		return v
	}
	if _, err := d.Decode(stored); err != nil {
		return v
	}
	return d.merge(v, stored)
}

// Merges reports whether Merged can return something else than its argument.
func (d *definition) Merges() bool { return d.merge != nil }

// Bounds returns the least and the largest value of the key.
func (d *definition) Bounds() (min, max value.Value) {
	if !d.min.IsZero() {
		return d.min, d.max
	}
	if lo, hi, ok := d.integers(); ok && d.kind == value.KindInt {
		return value.Int(lo), value.Int(hi)
	}
	return min, max
}

// Checks reports whether the key has rules besides Between and Keep.
func (d *definition) Checks() bool { return len(d.rules) > 0 }

// Unkept describes what of the values does not survive being stored.
func (d *definition) Unkept() string { return d.unkept }

func (d *definition) structure() (m *members, family bool) { return d.members, false }

func (d *definition) examine(ns *Namespace) {
	b := newBinding(ns, d, nil)
	if r := b.decode(b.node.Record()); r.err != nil {
		ns.prob.report(d.name, r.rec, r.err)
	}
}

// check returns an error that wraps ErrInvalid if x breaks the rules.
func (d *definition) check(x any) error {
	if d.unnameable != nil {
		return d.unnameable
	}
	if err := d.bounded(x); err != nil {
		return err
	}
	return checkAll(d.rules, x)
}

// checkAll returns an error that wraps ErrInvalid if x breaks one of the rules.
func checkAll(rules []func(x any) error, x any) error {
	for _, rule := range rules {
		if err := rule(x); err != nil {
			return &invalid{err.Error(), err}
		}
	}
	return nil
}

// bounded returns an error if x is outside the bounds.
func (d *definition) bounded(x any) error {
	if d.min.IsZero() {
		return nil
	}
	v, err := d.enc(x)
	if err == nil {
		err = value.Within(v, d.min, d.max)
	}
	if err != nil {
		shown := entry.Quoted(v)
		if d.format != nil {
			shown = d.format(x)
		}
		return &invalid{sentence: fmt.Sprintf("%s is not from %s to %s", shown, d.shown(d.min), d.shown(d.max))}
	}
	return nil
}

// invalid is an ErrInvalid whose text is only the sentence.
type invalid struct {
	sentence string
	cause    error
}

func (e *invalid) Error() string { return e.sentence }

func (e *invalid) Unwrap() []error {
	if e.cause == nil {
		return []error{ErrInvalid}
	}
	return []error{ErrInvalid, e.cause}
}

// choose limits a text to choices.
func (d *definition) choose(choices []string, text func(x any) string) {
	for i, one := range choices {
		if slices.Contains(choices[:i], one) {
			misuse("OneOf: the choice %q occurs twice in %s", one, d.name)
		}
	}
	d.choice = choices
	d.rules = append(d.rules, func(x any) error {
		if s := text(x); !slices.Contains(choices, s) {
			return fmt.Errorf("%q is not one of %s", s, strings.Join(choices, ", "))
		}
		return nil
	})
}
