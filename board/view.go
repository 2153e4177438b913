package board

import (
	"maps"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
)

// A view is what is known of the part of a board that was asked for. Answers come in
// any order, from several sources, and from a board that may have been put back to what
// it was. So:
//
//   - the mark moves only where an answer tells everything since exactly that; what is
//     no newer is dropped; of anything else entries count by their versions, and its
//     mark is asked with until the server is seen to know it;
//   - a mark holds for what was asked with it: whoever asks for more asks for all of it;
//   - a whole takes the place of all that was asked for;
//   - answers to what was asked before the last whole, or before a name was bound, are
//     dropped, wholes too.
//
// It is not safe for concurrent use.
type view struct {
	names    map[string]bool // asked for
	prefixes map[string]int  // and what begins so, with how many want that; the empty one is everything
	mark     mark.Mark       // where it stands: all before is taken in; zero: nowhere yet
	seen     []mark.Mark     // of answers that told of something behind it
	// epoch counts when the answers to what was asked before lost their meaning: a whole
	// was taken in, or more is asked for.
	epoch   int
	entries map[string]Entry // without a value: it is absent, as of its version
}

func newView() *view {
	return &view{names: map[string]bool{}, prefixes: map[string]int{}, entries: map[string]Entry{}}
}

// has says whether a name is asked for.
func (v *view) has(name string) bool { return v.names[name] || v.covers(name) }

// covers says whether what begins so is asked for, all of it.
func (v *view) covers(prefix string) bool {
	for p := range v.prefixes {
		if strings.HasPrefix(prefix, p) {
			return true
		}
	}
	return false
}

// nothing says whether nothing is asked for.
func (v *view) nothing() bool { return len(v.names)+len(v.prefixes) == 0 }

// bind has a name asked for.
func (v *view) bind(name string) {
	known := v.has(name)
	v.names[name] = true
	if !known {
		v.anew()
	}
}

// bindPrefix has all asked for that begins so, until it is unbound.
func (v *view) bindPrefix(prefix string) {
	known := v.covers(prefix)
	v.prefixes[prefix]++
	if !known {
		v.anew()
	}
}

// unbindPrefix has it not asked for any more, and forgets what was known of it alone. The
// mark holds on: it is for less.
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

// anew has the next question be for all of it: a mark holds for what was asked with it.
func (v *view) anew() {
	v.mark, v.seen = mark.Mark{}, nil
	v.epoch++
}

// An asking is what a question was sent with.
type asking struct {
	epoch int
	since []mark.Mark
	seen  []mark.Mark // what was seen when it was sent
}

// ask gives what the next question is sent with.
func (v *view) ask() asking {
	a := asking{epoch: v.epoch, seen: slices.Clone(v.seen)}
	if v.mark != (mark.Mark{}) {
		a.since = append([]mark.Mark{v.mark}, v.seen...)
	}
	return a
}

// write gives what the answer to a write belongs to: it is sent with no marks, and so
// says nothing of those that were seen.
func (v *view) write() asking { return asking{epoch: v.epoch} }

// unchanged takes in that nothing changed up to a mark.
func (v *view) unchanged(a asking, now mark.Mark) {
	if a.epoch == v.epoch && len(a.since) == 1 && a.since[0] == v.mark && now.Version > v.mark.Version {
		v.mark = now
		v.forget(now)
	}
}

// take takes in an answer, all of whose pages have come, and gives the names of which
// something else is known now. fresh is false for one that came too late to mean
// anything. The error is for one that has no mark.
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
				// It was asked for before that was seen, and would roll it back for a
				// moment; the next one is as whole.
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
		v.anew()
	}
	return changed, true, nil
}

// mostSeen is how many marks are asked with besides one's own, as by an app that writes
// while it doesn't ask; past it all is asked for instead.
const mostSeen = 16

// forget forgets marks that were seen.
func (v *view) forget(marks ...mark.Mark) {
	v.seen = slices.DeleteFunc(v.seen, func(m mark.Mark) bool { return slices.Contains(marks, m) })
}

// learn takes in what a name holds, unless something newer is known.
func (v *view) learn(changed []string, e Entry) []string {
	before, known := v.entries[e.Name]
	if !v.has(e.Name) || known && e.Version < before.Version {
		return changed
	}
	v.entries[e.Name] = e
	return append(changed, e.Name)
}

// replace takes in a whole: what it doesn't tell of is absent.
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
		if _, known := v.entries[name]; !known && v.has(name) { // it is told of once more, as absent
			v.entries[name] = Entry{Name: name, Version: p.Version}
		}
	}
	return slices.Collect(maps.Keys(v.entries))
}
