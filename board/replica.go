package board

import (
	"maps"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
)

// A replica is what is known of the requested part of a board. Answers arrive in any order, from
// several sources, and from a board that can have been restored to an earlier state. The rules:
//
//   - The mark moves only if an answer has everything since exactly that mark. An answer that is not
//     newer is dropped. Of other answers, entries count by their versions, and the answer's mark is
//     sent with questions until the server is seen to know it.
//   - A mark is valid for the question that it answered: a larger question requests everything.
//   - A whole answer replaces everything that was requested.
//   - Answers to questions from before the last whole answer, or from before a name was bound, are
//     dropped, whole ones too.
//
// It is not safe for concurrent use.
type replica struct {
	names    map[string]bool // requested
	prefixes map[string]int  // and everything that begins so, with the number of users; "" is everything
	mark     mark.Mark       // the position: everything before it is known; zero means none yet
	seen     []mark.Mark     // of answers that had something after it
	// epoch counts when answers to earlier questions became invalid: after a whole answer, and when
	// more is requested.
	epoch   int
	entries map[string]entry.Entry // without a value: absent, as of its version
}

func newReplica() *replica {
	return &replica{names: map[string]bool{}, prefixes: map[string]int{}, entries: map[string]entry.Entry{}}
}

// has reports whether a name is requested.
func (r *replica) has(name string) bool { return r.names[name] || r.covers(name) }

// covers reports whether everything that begins so is requested.
func (r *replica) covers(prefix string) bool {
	for p := range r.prefixes {
		if strings.HasPrefix(prefix, p) {
			return true
		}
	}
	return false
}

// nothing reports whether nothing is requested.
func (r *replica) nothing() bool { return len(r.names)+len(r.prefixes) == 0 }

// bind requests a name.
func (r *replica) bind(name string) {
	known := r.has(name)
	r.names[name] = true
	if !known {
		r.forgetMark()
	}
}

// bindPrefix requests everything that begins so, until it is unbound.
func (r *replica) bindPrefix(prefix string) {
	known := r.covers(prefix)
	r.prefixes[prefix]++
	if !known {
		r.forgetMark()
	}
}

// unbindPrefix ends bindPrefix, and forgets what was known only for it. The mark stays valid,
// because the app asks about fewer names.
func (r *replica) unbindPrefix(prefix string) {
	if r.prefixes[prefix]--; r.prefixes[prefix] > 0 {
		return
	}
	delete(r.prefixes, prefix)
	for name := range r.entries {
		if !r.has(name) {
			delete(r.entries, name)
		}
	}
}

// forgetMark makes the next question request everything: a mark is valid for the question that it
// answered.
func (r *replica) forgetMark() {
	r.mark, r.seen = mark.Mark{}, nil
	r.epoch++
}

// An asking is what a question was sent with.
type asking struct {
	epoch int
	since []mark.Mark
	seen  []mark.Mark // seen when it was sent
}

// ask returns what the next question is sent with.
func (r *replica) ask() asking {
	a := asking{epoch: r.epoch, seen: slices.Clone(r.seen)}
	if r.mark != (mark.Mark{}) {
		a.since = append([]mark.Mark{r.mark}, r.seen...)
	}
	return a
}

// write returns the asking of a write: it is sent without marks, so its answer does not confirm
// any.
func (r *replica) write() asking { return asking{epoch: r.epoch} }

// A question is what the server is asked for: names, and everything that begins with one of the
// prefixes. Without both, nothing is requested.
type question struct {
	asking
	names, prefixes []string
}

// nothing reports whether nothing is requested.
func (q question) nothing() bool { return len(q.names)+len(q.prefixes) == 0 }

// question returns what to ask the server, and what the question is sent with.
func (r *replica) question() question {
	q := question{asking: r.ask()}
	if r.covers("") {
		q.prefixes = []string{""}
		return q
	}
	q.names, q.prefixes = slices.Sorted(maps.Keys(r.names)), slices.Sorted(maps.Keys(r.prefixes))
	return q
}

// moved records that only names that are not requested have changed up to a mark. It reports whether
// the mark is used.
func (r *replica) moved(a asking, now mark.Mark) bool {
	if a.epoch != r.epoch || len(r.seen) > 0 || now.Version <= r.mark.Version {
		return false
	}
	r.mark = now
	return true
}

// unchanged records that nothing changed up to a mark.
func (r *replica) unchanged(a asking, now mark.Mark) {
	if a.epoch == r.epoch && len(a.since) == 1 && a.since[0] == r.mark && now.Version > r.mark.Version {
		r.mark = now
		r.forget(now)
	}
}

// take updates the replica with an answer, all of whose pages have arrived, and returns the names that
// changed. fresh is false if the answer came too late to be used. It returns an error if
// the answer has no mark.
func (r *replica) take(a asking, p *wire.Page) (changed []string, fresh bool, err error) {
	now, err := mark.Parse(p.Mark)
	if err != nil {
		return nil, false, err
	}
	if a.epoch != r.epoch {
		return nil, false, nil
	}
	if r.nothing() {
		return nil, true, nil
	}
	if p.Whole {
		for _, m := range r.seen {
			if now.Version < m.Version && !slices.Contains(a.seen, m) {
				// It was requested before that was seen, and would undo it for a moment; the next
				// answer is whole too.
				return nil, false, nil
			}
		}
		r.forget(a.seen...)
		return r.replace(now, p), true, nil
	}
	defer r.forget(a.since[min(1, len(a.since)):]...) // the server knows them
	switch {
	case r.mark != mark.Mark{} && now.Version <= r.mark.Version:
		return nil, true, nil
	case r.mark != mark.Mark{} && p.Since == r.mark.String():
		r.mark = now
		r.forget(now)
	case !slices.Contains(r.seen, now):
		r.seen = append(r.seen, now)
	}
	for _, e := range p.Entries {
		changed = r.learn(changed, e)
	}
	for _, g := range p.Gone {
		changed = r.learn(changed, entry.Entry{Name: g.Name, Version: g.Version})
	}
	if len(r.seen) > mostSeen {
		r.forgetMark()
	}
	return changed, true, nil
}

// mostSeen is the maximum number of marks sent besides the own one, for example by an app that
// writes while it does not poll. Beyond it, everything is requested.
const mostSeen = 16

// forget forgets marks that were seen.
func (r *replica) forget(marks ...mark.Mark) {
	r.seen = slices.DeleteFunc(r.seen, func(m mark.Mark) bool { return slices.Contains(marks, m) })
}

// learn updates a name, unless something newer is known.
func (r *replica) learn(changed []string, e entry.Entry) []string {
	before, known := r.entries[e.Name]
	if !r.has(e.Name) || known && e.Version < before.Version {
		return changed
	}
	r.entries[e.Name] = e
	return append(changed, e.Name)
}

// replace uses a whole answer: what it does not contain is absent.
func (r *replica) replace(now mark.Mark, p *wire.Page) []string {
	r.mark = now
	r.epoch++
	before := r.entries
	r.entries = make(map[string]entry.Entry, len(p.Entries))
	for name := range r.names {
		r.entries[name] = entry.Entry{Name: name, Version: p.Version}
	}
	for _, e := range p.Entries {
		if r.has(e.Name) {
			r.entries[e.Name] = e
		}
	}
	for name := range before {
		if _, known := r.entries[name]; !known && r.has(name) { // it is reported once more, as absent
			r.entries[name] = entry.Entry{Name: name, Version: p.Version}
		}
	}
	return slices.Collect(maps.Keys(r.entries))
}
