package pantry

import (
	"cmp"
	"fmt"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
)

// Declare tells Open all keys of the app. They are kept in the file, so that
// lists show also what was never written, and so that mistakes are found:
//
//   - two keys with one name, as after copying a line: Open returns ErrInvalid;
//   - a name that nearly matches one which another app or an earlier version
//     declared, or under which something is stored;
//   - a key that was declared with another kind;
//   - a name that says that it is a secret (password, token, …), of a key that is
//     not Sealed;
//   - a struct of which something does not survive being stored;
//   - a stored value that its key can't use;
//   - a key that is used without being declared.
//
// All but the first are Problems. A key covers its family (At), and a
// RecordsKey its records.
func Declare(keys ...AnyKey) Option {
	return func(o *options) { o.declared = append(o.declared, keys...) }
}

// A declaration is what the app told Declare.
type declaration struct {
	keys  []AnyKey
	names map[string]DeclaredKey
}

func newDeclaration(keys []AnyKey) (*declaration, error) {
	if len(keys) == 0 {
		return nil, nil
	}
	d := &declaration{keys, map[string]DeclaredKey{}}
	for _, k := range keys {
		if k == nil {
			misuse("Declare takes keys, not nil")
		}
		for _, one := range k.Declared() {
			if _, twice := d.names[one.Name]; twice {
				return nil, refuse.As(ErrInvalid, "two declared keys have the name %s; was a line copied?", scan.Quote(one.Name))
			}
			d.names[one.Name] = one
		}
	}
	return d, nil
}

// covers says whether a name is declared, or is of a declared family.
func (d *declaration) covers(name string) bool {
	for name := range entry.Families(name) {
		if _, ok := d.names[name]; ok {
			return true
		}
	}
	return false
}

// declare compares the declared keys with the file and stores them in it.
func (ns *Namespace) declare() error {
	d := ns.declaration
	if d == nil {
		return nil
	}
	known := map[string]DeclaredKey{}
	for _, k := range ns.l.Keys() {
		known[k.Name] = k
	}
	var changed []DeclaredKey
	for _, k := range d.keys {
		if lost := k.unkept(); lost != "" {
			ns.prob.report(k.Name(), nil, refuse.As(ErrInvalid, "%s", lost))
		}
		k.examine(ns)
		for _, one := range k.Declared() {
			if entry.SecretKey(one) {
				ns.prob.report(one.Name, nil, refuse.As(ErrInvalid, "the name %s says that it is a secret, which would stand in the file, and in every backup of it, for everybody to read; declare it Sealed, or give it another name", scan.Quote(one.Name)))
			}
			if before, ok := known[one.Name]; !ok {
				ns.compare(one.Name, known)
			} else if before.Kind != one.Kind && !ns.migrated {
				ns.prob.report(one.Name, nil, fmt.Errorf("%w: %s was declared as %s, and is declared as %s now; a changed kind needs a Schema step", ErrWrongKind, one.Name, before.Kind, one.Kind))
			}
			if !known[one.Name].Equal(one) {
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

// compare reports a name that nearly matches another which the file knows and
// the app does not declare.
func (ns *Namespace) compare(name string, known map[string]DeclaredKey) {
	tell := func(other, is string) {
		if _, own := ns.declaration.names[other]; own {
			return
		}
		if how := near.Match(name, other); how != "" {
			ns.prob.report(name, nil, refuse.As(ErrInvalid, "the name %s nearly matches %s, which %s: %s", scan.Quote(name), scan.Quote(other), is, how))
		}
	}
	for other := range known {
		tell(other, "is declared in this namespace")
	}
	for e := range ns.Entries("") {
		if _, declared := known[e.Name]; !declared {
			tell(e.Name, "is stored in this namespace")
		}
	}
}

// noteUse reports a key that is used without being declared, and one of a
// family (see At) by the name of that, once.
func (ns *Namespace) noteUse(name, of string) {
	if ns.declaration == nil || ns.declaration.covers(name) {
		return
	}
	name = cmp.Or(of, name)
	if _, told := ns.undeclared.LoadOrStore(name, true); !told {
		ns.prob.report(name, nil, refuse.As(ErrInvalid, "the key %s is used and not declared; add it to Declare", scan.Quote(name)))
	}
}

// A DeclaredKey is a key as some app declared it, which the namespace keeps
// beside the entries: Name, Kind, Default (no value for a sealed key and for a
// family), About, Min and Max (no value: no bound), Keep (0: a list of any
// length), Choices (of a OneOf key; none: any text), and Family, which says that it stands for Name/ and anything, as the
// records of a collection.
type DeclaredKey = entry.Declared

// Declared gives the keys that apps have declared, by the order of their names.
func (ns *Namespace) Declared() []DeclaredKey { return ns.namespace().l.Keys() }
