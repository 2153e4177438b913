package board

import (
	"maps"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
)

// A view is what is known of the requested part of a board. Answers arrive in any order, from
// several sources, and from a board that can have been restored to an earlier state. The rules:
//
//   - The mark moves only if an answer has everything since exactly that mark. An answer that is
//     not
//
// newer is dropped. Of other answers, entries count by their versions, and the answer's mark is
// sent with questions until the server is seen to know it.
//   - A mark is valid for the question that it answered: a larger question requests everything.
//   - A whole answer replaces everything that was requested.
//   - Answers to questions from before the last whole answer, or from before a name was bound, are
//
// dropped, whole ones too.
//
// It is not safe for concurrent use.
type view struct {
	names    map[string]bool // requested
	prefixes map[string]int  // and everything that begins so, with the number of users; "" is everything
	mark     mark.Mark       // the position: everything before it is known; zero means none yet
	seen     []mark.Mark     // of answers that had something after it
	// epoch counts when answers to earlier questions became invalid: after a whole answer, and when
	// more is requested.
	epoch   int
	entries map[string]Entry // without a value: absent, as of its version
}

func newView() *view {
	return &view{names: map[string]bool{}, prefixes: map[string]int{}, entries: map[string]Entry{}}
}

// has reports whether a name is requested.
func (v *view) has(name string) bool { return v.names[name] || v.covers(name) }

// covers reports whether everything that begins so is requested.
func (v *view) covers(prefix string) bool {
	for p := range v.prefixes {
		if strings.HasPrefix(prefix, p) {
			return true
		}
	}
	return false
}

// nothing reports whether nothing is requested.
func (v *view) nothing() bool { return len(v.names)+len(v.prefixes) == 0 }

// bind requests a name.
func (v *view) bind(name string) {
	known := v.has(name)
	v.names[name] = true
	if !known {
		v.forgetMark()
	}
}

// bindPrefix requests everything that begins so, until it is unbound.
func (v *view) bindPrefix(prefix string) {
	known := v.covers(prefix)
	v.prefixes[prefix]++
	if !known {
		v.forgetMark()
	}
}

// unbindPrefix ends bindPrefix, and forgets what was known only for it. The mark stays valid,
// because it is for less.
func (v *view) unbindPrefix(prefix string) {
	if v.prefixes[prefix]--; v.prefixes[prefix] > 0 {
		return
	}
	delete(v.prefixes, prefix)
	for name := range v.entries {
		if !v.has(name) {
			delete(v.entries, name)
		}
	}
}

// forgetMark makes the next question request everything: a mark is valid for the question that it
// answered.
func (v *view) forgetMark() {
	v.mark, v.seen = mark.Mark{}, nil
	v.epoch++
}

// An asking is what a question was sent with.
type asking struct {
	epoch int
	since []mark.Mark
	seen  []mark.Mark // seen when it was sent
}

// ask returns what the next question is sent with.
func (v *view) ask() asking {
	a := asking{epoch: v.epoch, seen: slices.Clone(v.seen)}
	if v.mark != (mark.Mark{}) {
		a.since = append([]mark.Mark{v.mark}, v.seen...)
	}
	return a
}

// write returns the asking of a write: it is sent without marks, so its answer does not confirm
// any.
func (v *view) write() asking { return asking{epoch: v.epoch} }

// unchanged records that nothing changed up to a mark.
func (v *view) unchanged(a asking, now mark.Mark) {
	if a.epoch == v.epoch && len(a.since) == 1 && a.since[0] == v.mark && now.Version > v.mark.Version {
		v.mark = now
		v.forget(now)
	}
}

// take updates the view with an answer, all of whose pages have arrived, and returns the names that
// changed. fresh is false if the answer came too late to be used. The error is for an answer
// without a mark.
func (v *view) take(a asking, p *wire.Page) (changed []string, fresh bool, err error) {
	now, err := mark.Parse(p.Mark)
	if err != nil {
		return nil, false, err
	}
	if a.epoch != v.epoch {
		return nil, false, nil
	}
	if v.nothing() {
		return nil, true, nil
	}
	if p.Whole {
		for _, m := range v.seen {
			if now.Version < m.Version && !slices.Contains(a.seen, m) {
				// It was requested before that was seen, and would undo it for a moment; the next
				// answer is whole too.
				return nil, false, nil
			}
		}
		v.forget(a.seen...)
		return v.replace(now, p), true, nil
	}
	defer v.forget(a.since[min(1, len(a.since)):]...) // the server knows them
	switch {
	case v.mark != mark.Mark{} && now.Version <= v.mark.Version:
		return nil, true, nil
	case v.mark != mark.Mark{} && p.Since == v.mark.String():
		v.mark = now
		v.forget(now)
	case !slices.Contains(v.seen, now):
		v.seen = append(v.seen, now)
	}
	for _, e := range p.Entries {
		changed = v.learn(changed, e)
	}
	for _, g := range p.Gone {
		changed = v.learn(changed, Entry{Name: g.Name, Version: g.Version})
	}
	if len(v.seen) > mostSeen {
		v.forgetMark()
	}
	return changed, true, nil
}

// mostSeen is the maximum number of marks sent besides the own one, for example by an app that
// writes while it does not poll. Beyond it, everything is requested.
const mostSeen = 16

// forget forgets marks that were seen.
func (v *view) forget(marks ...mark.Mark) {
	v.seen = slices.DeleteFunc(v.seen, func(m mark.Mark) bool { return slices.Contains(marks, m) })
}

// learn updates a name, unless something newer is known.
func (v *view) learn(changed []string, e Entry) []string {
	before, known := v.entries[e.Name]
	if !v.has(e.Name) || known && e.Version < before.Version {
		return changed
	}
	v.entries[e.Name] = e
	return append(changed, e.Name)
}

// replace uses a whole answer: what it does not contain is absent.
func (v *view) replace(now mark.Mark, p *wire.Page) []string {
	v.mark = now
	v.epoch++
	before := v.entries
	v.entries = make(map[string]Entry, len(p.Entries))
	for name := range v.names {
		v.entries[name] = Entry{Name: name, Version: p.Version}
	}
	for _, e := range p.Entries {
		if v.has(e.Name) {
			v.entries[e.Name] = e
		}
	}
	for name := range before {
		if _, known := v.entries[name]; !known && v.has(name) { // it is reported once more, as absent
			v.entries[name] = Entry{Name: name, Version: p.Version}
		}
	}
	return slices.Collect(maps.Keys(v.entries))
}
