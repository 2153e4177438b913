// Package keycode writes declared keys as code for a second app, in several languages. What it writes
// declares the keys, and reads, writes and watches one of them.
package keycode

import (
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// A Place is what the code opens: a namespace on a device, or a board.
type Place struct {
	Board   bool
	Dir     string // of a namespace
	Name    string // of the namespace or board
	Link    string // of a board, without its token
	Keys    []entry.Declared
	Entries []entry.Entry // what is stored; it shows what a declaration does not contain
}

// keys returns the keys without a plain key whose name a family has too.
func (p Place) keys() []entry.Declared {
	return slices.DeleteFunc(slices.Clone(p.Keys), func(k entry.Declared) bool {
		return !k.Family && slices.ContainsFunc(p.Keys, func(f entry.Declared) bool { return f.Family && f.Name == k.Name })
	})
}

// first returns the key that the code shows the use of: the first one with a value.
func (p Place) first() (entry.Declared, bool) {
	for _, k := range p.keys() {
		if !k.Family && k.Kind != value.KindSealed {
			return k, true
		}
	}
	return entry.Declared{}, false
}

func (p Place) has(kind value.Kind) bool {
	return slices.ContainsFunc(p.keys(), func(k entry.Declared) bool { return !k.Family && k.Kind == kind })
}

func (p Place) stored(name string) (value.Value, bool) {
	for _, e := range p.Entries {
		if e.Name == name {
			return e.Value, true
		}
	}
	return value.Value{}, false
}

// Undeclared returns a declaration for an entry that has none. Its default is empty, except where only the
// stored value shows what the members are.
func Undeclared(e entry.Entry) entry.Declared {
	k := entry.Declared{Key: entry.Key{Name: e.Name, Kind: e.Value.Kind(), Default: sampleOf(e.Value.Kind())}}
	switch k.Kind {
	case value.KindMap:
		k.Default = e.Value
	case value.KindTime:
		k.Default = value.Time(time.Time{})
	case value.KindBytes:
		k.Default = value.Bytes(nil)
	}
	return k
}

// A member is a field of a record, with an example of its value.
type member struct {
	name  string
	value value.Value
}

// fields returns the fields of a collection's records, as far as the stored ones show them.
func (p Place) fields(k entry.Declared) (fields []member) {
	if k.Kind != value.KindMap {
		return nil
	}
	for _, e := range p.Entries {
		if !strings.HasPrefix(e.Name, k.Name+"/") {
			continue
		}
		for _, m := range e.Value.Members() {
			i := slices.IndexFunc(fields, func(f member) bool { return f.name == m.Name })
			switch {
			case i < 0:
				fields = append(fields, member{m.Name, m.Value})
			case fields[i].value.Kind() == value.KindInt && m.Value.Kind() == value.KindFloat:
				fields[i].value = m.Value
			}
		}
	}
	return fields
}

// sampleOf returns a value of a kind.
func sampleOf(k value.Kind) value.Value {
	switch k {
	case value.KindBool:
		return value.Bool(false)
	case value.KindInt:
		return value.Int(0)
	case value.KindFloat:
		return value.Float(0)
	case value.KindText:
		return value.Text("")
	case value.KindList:
		return value.List()
	}
	return value.Value{}
}

// camel converts reminder-hour to reminderHour.
func camel(name string) string {
	s := goName(name)
	_, first := utf8.DecodeRuneInString(s)
	return strings.ToLower(s[:first]) + s[first:]
}
