package pantry

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/small-pantry/pantry/internal/keyuse"
)

// A KeyUsage says what the program did with a name since Open.
type KeyUsage struct {
	Name     string
	Declared bool // by Declare, by itself or as one of a family
	Stored   bool // there is a value now
	Read     bool
	Written  bool // or tried to
}

// Usage tells of each declared key, and of every other name that was read,
// written or is stored, what the program did with it since Open: a key that is
// declared and never read or never written may be misspelt somewhere.
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

// NoteUsage keeps which of the declared keys the program reads and writes, in
// all its runs, in the file DIR/.NAME.usage, where `smallpantry check` finds
// keys that no run has read or written. It is meant for development. Flush and
// Close bring the file up to date; when that fails, it is reported as a Problem
// and nothing else is lost. It does nothing without Declare, or with ReadOnly.
func NoteUsage() Option { return func(o *options) { o.noteUsage = true } }

// noteUsage adds to the notes what the declared keys were used for.
func (ns *Namespace) noteUsage() {
	if !ns.notes || ns.declaration == nil || ns.readOnly {
		return
	}
	keys := map[string]keyuse.Use{}
	for name := range ns.declaration.names {
		keys[name] = keyuse.Use{}
	}
	for n := range ns.l.Nodes() {
		read, written := n.Used()
		// An entry counts for its own key, and for those of whose family it is.
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
		ns.prob.report("", nil, fmt.Errorf("which keys are used could not be noted: %w", err))
	}
}
