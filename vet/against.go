package vet

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/near"
)

// stored returns the entries of a file, which is only read, or of a board.
func stored(where string) (entries []pantry.Entry, err error) {
	if strings.Contains(where, "://") {
		b, err := board.Join(where)
		if err != nil {
			return nil, err
		}
		defer b.Close()
		entries, _, err = b.All(context.Background(), "")
		return entries, err
	}
	dir, file := filepath.Split(where)
	name, is := strings.CutSuffix(file, ".jsonl")
	if !is {
		return nil, fmt.Errorf("%s is no file of a namespace, which ends in .jsonl", where)
	}
	ns, err := pantry.Open(filepath.Clean(dir), name, pantry.ReadOnly(), pantry.OnProblem(func(pantry.Problem) {}))
	if err != nil {
		return nil, err
	}
	defer ns.Close()
	return slices.Collect(ns.Entries("")), nil
}

// orphans reports, at the beginning of the program, what is stored at a place and no key of the program
// reads.
func (c *checker) orphans(where string) error {
	entries, err := stored(where)
	if err != nil {
		return fmt.Errorf("read %s: %w", where, err)
	}
	all := slices.Clone(c.fields)
	for _, k := range c.keys {
		all = append(all, declaredName{Name: k.name, Maker: k.maker, Kind: k.kind, Members: k.members})
	}
	for _, f := range c.AllPackageFacts() {
		if names, ok := f.Fact.(*declaredNames); ok && f.Package != c.Pkg {
			all = append(all, names.Names...)
		}
	}
	at := c.Files[0].Name
	members := map[string]bool{} // reported
	for _, e := range entries {
		d, family := covering(all, e.Name)
		kind := e.Value.Kind().String()
		switch {
		case d == nil:
			c.report(at, "%s holds %s = %s, which no key of this program declares%s", where, e.Name, shortened(e), renamed(all, e.Name))
		case family && d.Maker == "RecordsOf" && e.Name == d.Name: // the newest number of the records
		case d.Kind != "" && d.Kind != kind && !(d.Kind == "float" && kind == "int"):
			c.report(at, "%s holds %s as %s, and this program declares it as %s: add the schema step ConvertKey(%q, …)", where, e.Name, kind, d.Kind, d.Name)
		case d.Members != nil:
			for _, m := range e.Value.Members() {
				if id := d.Name + "." + m.Name; !slices.Contains(d.Members, m.Name) && !members[id] {
					members[id] = true
					c.report(at, "%s holds the member %s of %s, and its struct has no such field%s", where, m.Name, e.Name, renamedMember(d, m.Name))
				}
			}
		}
	}
	return nil
}

// covering returns the declaration that covers a name, and whether it is that of a family.
func covering(all []declaredName, name string) (d *declaredName, family bool) {
	for i := range all {
		if all[i].Name == name {
			return &all[i], all[i].Maker == "RecordsOf"
		}
	}
	for i := range all {
		if strings.HasPrefix(name, all[i].Name+"/") && (d == nil || len(all[i].Name) > len(d.Name)) {
			d, family = &all[i], true
		}
	}
	return d, family
}

func shortened(e pantry.Entry) string {
	s := e.Value.String()
	if r := []rune(s); len(r) > 40 {
		s = string(r[:40]) + "…"
	}
	return s
}

// renamed says how to keep an entry whose key was probably renamed.
func renamed(all []declaredName, name string) string {
	for _, d := range all {
		if near.Match(name, d.Name) != "" {
			return fmt.Sprintf("; if it is %q now, add the schema step RenameKey(%q, %[1]q)", d.Name, name)
		}
	}
	return fmt.Sprintf("; add a schema step: RenameKey(%q, NEW) keeps it, DropKey(%[1]q) removes it", name)
}

func renamedMember(d *declaredName, member string) string {
	for _, m := range d.Members {
		if near.Match(member, m) != "" {
			return fmt.Sprintf("; if it is %q now, add the schema step RenameMember(%q, %q, %[1]q)", m, d.Name, member)
		}
	}
	return fmt.Sprintf("; add the schema step RenameMember(%q, %q, NEW), or keep the field", d.Name, member)
}
