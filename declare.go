package pantry

import (
	"cmp"
	"fmt"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Declare lists all keys of the app. They are stored in the file, so that lists also show keys that
// were never written. Open finds these mistakes:
//
//   - two keys of one name, for example after a line was copied: Open returns ErrInvalid;
//   - a name that nearly matches one that another app or an earlier version declared or stored;
//   - a key that was declared with another kind;
//   - a name that suggests a secret (password, token, …) on a key that is not Sealed;
//   - a struct with a field that does not survive being stored;
//   - a stored value that its key can't use;
//   - a key that is used without being declared.
//
// All but the first are Problems. A key covers its family (At), and a RecordsKey its records.
func Declare(keys ...AnyKey) Option {
	return func(o *options) {
		o.declared = append(o.declared, keys...)
		o.newDeclaration, o.declare = newDeclaration, declare
	}
}

// A declaration holds the keys that were passed to Declare.
type declaration struct {
	keys  []AnyKey
	names map[string]entry.Declared
}

func newDeclaration(keys []AnyKey) (*declaration, error) {
	if len(keys) == 0 {
		return nil, nil
	}
	d := &declaration{keys, map[string]entry.Declared{}}
	for _, k := range keys {
		if k == nil {
			misuse("Declare needs keys, not nil")
		}
		for _, one := range declarations(k) {
			if _, twice := d.names[one.Name]; twice {
				return nil, refuse.As(ErrInvalid, "two declared keys have the name %s; was a line copied?", scan.Quote(one.Name))
			}
			d.names[one.Name] = one
		}
	}
	return d, nil
}

// covers reports whether a name is declared, or is a member of a declared family.
func (d *declaration) covers(name string) bool {
	for name := range entry.Families(name) {
		if _, ok := d.names[name]; ok {
			return true
		}
	}
	return false
}

// declare compares the declared keys with the file and stores them in it.
func declare(ns *Namespace) error {
	d := ns.declaration
	if d == nil {
		return nil
	}
	known := map[string]entry.Declared{}
	for _, k := range ns.l.Keys() {
		known[k.ID()] = k
	}
	ns.reportOrphans(known)
	var changed []entry.Declared
	for _, k := range d.keys {
		d := k.behind()
		if unkept := d.Unkept(); unkept != "" {
			ns.prob.report(k.Name(), nil, refuse.As(ErrInvalid, "%s", unkept))
		}
		d.examine(ns)
		m, family := d.structure()
		ns.strayMembers(k.Name(), m, family)
		for _, one := range declarations(k) {
			ns.reportSecret(one)
			if before, ok := known[one.ID()]; !ok {
				ns.compare(one.Name, known)
			} else if before.Kind != one.Kind && !ns.migrated {
				ns.prob.report(one.Name, nil, fmt.Errorf("%w: %s was declared as %s, and is now declared as %s; a changed kind needs a Schema step", ErrWrongKind, one.Name, before.Kind, one.Kind))
			}
			if !known[one.ID()].Equal(one) {
				changed = append(changed, one)
			}
		}
	}
	if len(changed) == 0 || ns.readOnly {
		return nil
	}
	_, err := ns.commit(func(tx *ledger.Tx) error { tx.Declare(changed...); return nil })
	return err
}

// compare reports a name that nearly matches a name in the file that the app does not declare.
func (ns *Namespace) compare(name string, known map[string]entry.Declared) {
	tell := func(other, is string) {
		if _, own := ns.declaration.names[other]; own {
			return
		}
		if how := near.Match(name, other); how != "" {
			ns.prob.report(name, nil, refuse.As(ErrInvalid, "the name %s nearly matches %s, which %s: %s", scan.Quote(name), scan.Quote(other), is, how))
		}
	}
	for _, other := range known {
		tell(other.Name, "is declared in this namespace")
	}
	for e := range ns.Entries("") {
		if _, declared := known[e.Name]; !declared {
			tell(e.Name, "is stored in this namespace")
		}
	}
}

// noteUse reports, once, a key that is used without being declared. A member of a family (see At)
// counts as the family.
func (ns *Namespace) noteUse(name, of string) {
	if ns.declaration == nil || ns.declaration.covers(name) {
		return
	}
	name = cmp.Or(of, name)
	if _, reported := ns.undeclared.LoadOrStore(name, true); !reported {
		ns.prob.report(name, nil, refuse.As(ErrInvalid, "the key %s is used and not declared; add it to Declare", scan.Quote(name)))
	}
}

// A DeclaredKey is a key that an app declared. A namespace and a board store it beside the entries.
type DeclaredKey struct {
	Name     string
	Kind     value.Kind
	Default  value.Value // the zero Value for a sealed key and for a family
	About    string
	Min, Max value.Value // the zero Value means no bound
	Keep     int         // 0 means no bound
	Choices  []string    // of a OneOf key; empty means any text
	Family   bool        // it covers Name/ and anything, for example the records of a collection
	By       string      // on a board: the app that declared it
}

// Allowed describes in words which values the key's rules allow, for example "0 to 23". It is empty if all
// values of the kind are allowed.
func (k DeclaredKey) Allowed() string { return entry.Declared{Key: entry.Key(k)}.Allowed() }

// MarshalJSON returns the declaration as an object without empty members.
func (k DeclaredKey) MarshalJSON() ([]byte, error) {
	return entry.Declared{Key: entry.Key(k)}.MarshalJSON()
}

// declarations returns the declarations of a key.
func declarations(k AnyKey) []entry.Declared {
	all := k.Declared()
	out := make([]entry.Declared, len(all))
	for i, d := range all {
		out[i].Key = entry.Key(d)
	}
	return out
}

// Declared returns the keys that apps have declared, in order of their names.
func (ns *Namespace) Declared() []DeclaredKey {
	all := ns.namespace().l.Keys()
	out := make([]DeclaredKey, len(all))
	for i, d := range all {
		out[i] = DeclaredKey(d.Key)
	}
	return out
}
