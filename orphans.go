package pantry

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/value"
)

// reportOrphans reports stored data that no key of this app reads any more, each once: a setting whose
// key was renamed only in the code is lost otherwise. known are the keys that were declared in the file
// before. Names that another app declared are not this app's, unless a new key of this app seems to be
// meant.
func (ns *Namespace) reportOrphans(known map[string]entry.Declared) {
	var fresh []entry.Declared // keys that this version adds, and under which nothing is stored
	for _, one := range ns.declaration.names {
		if _, before := known[one.ID()]; !before && !ns.holds(one) {
			fresh = append(fresh, one)
		}
	}
	sorted.By(fresh, func(a, b *entry.Declared) int { return strings.Compare(a.Name, b.Name) })
	reported := map[string]bool{}
	for e := range ns.Entries("") {
		if ns.declaration.covers(e.Name) || ns.resembles(e.Name) {
			continue
		}
		of, declared := e.Name, false
		for name := e.Name; ; name = name[:strings.LastIndexByte(name, '/')] {
			if k, ok := known[name]; ok {
				of, declared = k.Name, true
			} else if k, ok := known[name+"/"]; ok {
				of, declared = k.Name, true
			}
			if !strings.Contains(name, "/") {
				break
			}
		}
		if reported[of] {
			continue
		}
		reported[of] = true
		k, found := successor(of, e.Value.Kind(), of != e.Name, fresh)
		switch {
		case found:
			ns.prob.report(of, nil, refuse.As(ErrInvalid, "%s is stored, and no key of this app has that name; if it is %s now, add the schema step RenameKey(%q, %q), else DropKey(%[3]q)", scan.Quote(of), scan.Quote(k.Name), of, k.Name))
		case !declared && len(ns.declaration.names) > 0 && len(known) > 0:
			ns.prob.report(of, nil, refuse.As(ErrInvalid, "%s is stored, and no app has declared it: it may be misspelt, or left by an earlier version", scan.Quote(of)))
		}
	}
}

// resembles reports whether a name nearly matches a declared one, which compare reports.
func (ns *Namespace) resembles(name string) bool {
	for declared := range ns.declaration.names {
		if near.Match(name, declared) != "" {
			return true
		}
	}
	return false
}

// holds reports whether something is stored for a key.
func (ns *Namespace) holds(k entry.Declared) bool {
	if !k.Family {
		n := ns.l.Find(k.Name)
		return n != nil && n.Record().Found()
	}
	for range ns.Entries(k.Name + "/") {
		return true
	}
	return false
}

// successor returns the new key that a stored name probably has now: one of the same kind that shares a
// word with it. compare reports names that nearly match.
func successor(name string, kind value.Kind, family bool, fresh []entry.Declared) (entry.Declared, bool) {
	words := wordsOf(name)
	for _, k := range fresh {
		if k.Family != family || !family && k.Kind != kind {
			continue
		}
		shared := slices.ContainsFunc(wordsOf(k.Name), func(w string) bool {
			return len(w) > 2 && slices.Contains(words, w)
		})
		if shared {
			return k, true
		}
	}
	return entry.Declared{}, false
}

func wordsOf(name string) []string {
	return strings.FieldsFunc(name, func(r rune) bool { return strings.ContainsRune("-_/. ", r) })
}

// members are the members of a stored struct. They are computed with the key, so that an app without
// such keys does not include the code for structs.
type members struct {
	typ   reflect.Type
	names []string
}

func membersOf(t reflect.Type) *members {
	fields, _ := fieldsOf(t, map[reflect.Type]*coder{})
	m := &members{typ: t}
	for _, f := range fields {
		m.names = append(m.names, f.name)
	}
	return m
}

// strayMembers reports members of stored structs that the struct of a key does not have, each once. They
// are kept, and no code reads them.
func (ns *Namespace) strayMembers(name string, of *members, family bool) {
	if of == nil {
		return
	}
	reported := map[string]bool{}
	note := func(e Entry) {
		for _, m := range e.Value.Members() {
			if reported[m.Name] || slices.Contains(of.names, m.Name) {
				continue
			}
			reported[m.Name] = true
			missing := ""
			for _, field := range of.names {
				if _, has := e.Value.Member(field); !has {
					missing = field
				}
			}
			hint := ""
			if missing != "" {
				hint = fmt.Sprintf("; if it is %q now, add the schema step RenameMember(%q, %q, %[1]q)", missing, name, m.Name)
			}
			ns.prob.report(e.Name, nil, refuse.As(ErrInvalid, "%s has the member %s, and %s has no such field%s", e.Name, scan.Quote(m.Name), of.typ, hint))
		}
	}
	if !family {
		if n := ns.l.Find(name); n != nil && n.Record().Found() {
			note(Entry(ledger.Named{Name: name, Record: n.Record()}.Entry()))
		}
		return
	}
	for e := range ns.Entries(name + "/") {
		note(e)
	}
}

// usedKey is the first key that was used under a name.
type usedKey struct {
	def      *definition
	declared entry.Declared
}

// firstUse reports, once for each name, mistakes that need no list of keys to be found.
func (ns *Namespace) firstUse(d *definition) {
	one := entry.Declared{Key: d.Declaration()}
	before, used := ns.used.LoadOrStore(one.Name, usedKey{d, one})
	if used {
		first := before.(usedKey)
		if first.def == d || first.declared.Equal(one) {
			return
		}
		if _, reported := ns.differ.LoadOrStore(one.Name, true); !reported {
			ns.prob.report(one.Name, nil, refuse.As(ErrInvalid, "two keys have the name %s, and differ: was a line copied? Declare the key once, and use its variable", scan.Quote(one.Name)))
		}
		return
	}
	if d.sealed && ns.sealer == nil {
		ns.prob.report(one.Name, nil, refuse.As(ErrSealed, "the key %s is Sealed, and Open has no option Seal: it can't be read or written", scan.Quote(one.Name)))
	}
	if ns.declaration != nil && ns.declaration.covers(one.Name) {
		return // Declare reports the rest
	}
	if d.unkept != "" {
		ns.prob.report(one.Name, nil, refuse.As(ErrInvalid, "%s", d.unkept))
	}
	ns.reportSecret(one)
}

// reportSecret reports a key whose name suggests a secret and that is not Sealed.
func (ns *Namespace) reportSecret(one entry.Declared) {
	if entry.SecretKey(one) {
		ns.prob.report(one.Name, nil, refuse.As(ErrInvalid, "the name %s suggests a secret, which anybody who can read the file or a backup of it could read; declare it Sealed, or use another name", scan.Quote(one.Name)))
	}
}
