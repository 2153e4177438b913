package pantry

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/small-pantry/pantry/internal/keyuse"
)

// A KeyUsage records what the program did with a name since Open.
type KeyUsage struct {
	Name     string
	Declared bool // declared by itself or as a member of a family
	Stored   bool // the name holds a value
	Read     bool
	Written  bool // or tried to
}

// Usage returns what the program did since Open with each declared key, and with every other name
// that was read, written or is stored. A declared key that is never read or never written can be
// misspelt somewhere.
func (ns *Namespace) Usage() []KeyUsage {
	var out []KeyUsage
	for n := range ns.namespace().l.Nodes() {
		read, written := n.Used()
		u := KeyUsage{Name: n.Name, Stored: n.Record().Found(), Read: read, Written: written}
		if d := ns.declaration; d != nil {
			u.Declared = d.covers(n.Name)
		}
		if u.Declared || u.Stored || read || written {
			out = append(out, u)
		}
	}
	return out
}

// NoteUsage records which declared keys the program reads and writes, over all its runs, in the
// file DIR/.NAME.usage. `smallpantry check` then finds keys that no run has read or written. It is
// for development. Flush and Close update the file. A failure is reported as a Problem and loses
// nothing else. NoteUsage does nothing without Declare, and nothing with ReadOnly.
func NoteUsage() Option { return func(o *options) { o.noteUsage = noteUsage } }

// noteUsage adds the use of the declared keys to the notes.
func noteUsage(ns *Namespace) {
	if ns.declaration == nil || ns.readOnly {
		return
	}
	keys := map[string]keyuse.Use{}
	for name := range ns.declaration.names {
		keys[name] = keyuse.Use{}
	}
	for n := range ns.l.Nodes() {
		read, written := n.Used()
		// An entry counts for its own key and for each family that it belongs to.
		for name := n.Name; ; {
			if u, declared := keys[name]; declared {
				keys[name] = keyuse.Use{Read: u.Read || read, Written: u.Written || written}
			}
			i := strings.LastIndexByte(name, '/')
			if i < 0 {
				break
			}
			name = name[:i]
		}
	}
	dir := filepath.Dir(ns.l.Path())
	err := ns.l.Locked(func() error {
		err := keyuse.Add(dir, ns.name, keys, ns.noted)
		ns.noted = ns.noted || err == nil
		return err
	})
	if err != nil {
		ns.prob.report("", nil, fmt.Errorf("the use of keys could not be recorded: %w", err))
	}
}
