package board

import (
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A view is what the app sees of a board: a node for each name that it uses, and the watchers that
// wait for changes. It is safe for concurrent use.
type view struct {
	ask    func() // makes the next question be sent now; it must not block
	memory memory // nil without Offline
	from   string // this Board, as others see it

	mu       sync.Mutex // guards the following fields
	nodes    map[string]*node
	replica  *replica
	watchers map[*watcher]struct{}
	answered bool      // the server has answered once
	away     error     // why the newest attempt to reach the server failed; nil if it did not
	asOf     time.Time // when the server last confirmed what is shown, possibly in an earlier launch
}

func newView(ask func()) *view {
	return &view{ask: ask, nodes: map[string]*node{}, replica: newReplica(), watchers: map[*watcher]struct{}{}}
}

// bind returns the node of a variable, and requests its name.
func (v *view) bind(name string) *node {
	v.mu.Lock()
	defer v.mu.Unlock()
	n := v.request(name)
	n.bound = true
	return n
}

// use returns the node of a name, and requests it while it is watched.
func (v *view) use(name string) *node {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.request(name)
}

// keepPrefix requests everything that begins with a prefix until the Board is closed.
func (v *view) keepPrefix(prefix string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.replica.prefixes[prefix] == 0 {
		v.requestPrefix(prefix)
	}
}

// request returns the node of a name that is requested from now on; mu must be held.
func (v *view) request(name string) *node {
	n := v.nodes[name]
	if n == nil {
		n = v.add(name)
	}
	if v.replica.names[name] {
		return n
	}
	covered := v.replica.covers(name)
	if v.replica.bind(name); !covered {
		v.ask()
	} else if e, known := v.replica.entries[name]; known {
		v.change(n, func(r *remote) { r.entry, r.known, r.old = e, true, false })
	} else if v.replica.mark != (mark.Mark{}) { // everything is known, and nothing of this name
		v.change(n, func(r *remote) { r.known, r.old = true, false })
	}
	return n
}

// requestPrefix requests everything that begins with a prefix, and shows what an earlier launch knew of
// it; mu must be held.
func (v *view) requestPrefix(prefix string) {
	if v.memory != nil {
		for _, name := range v.memory.knownUnder(prefix) {
			if v.nodes[name] == nil {
				v.add(name)
			}
		}
	}
	covered := v.replica.covers(prefix)
	if v.replica.bindPrefix(prefix); !covered {
		v.ask()
	}
}

// add adds a node, with what an earlier launch knew; mu must be held.
func (v *view) add(name string) *node {
	n := &node{name: name}
	r := &remote{entry: entry.Entry{Name: name}, away: v.away}
	if v.memory != nil {
		r.queued, r.refused = v.memory.about(name)
		r.kept = r.refused != nil
		if e, found := v.memory.known(name); found {
			r.entry, r.known, r.old = e, true, true
		}
	}
	n.publish(r)
	v.nodes[name] = n
	return n
}

// alter changes what is known of a name, and wakes its watchers if that is visible.
func (v *view) alter(n *node, f func(*remote)) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.change(n, f)
}

// alterEach is alter for each name of edits that the view has.
func (v *view) alterEach(edits []entry.Edit, f func(r *remote)) {
	v.mu.Lock()
	defer v.mu.Unlock()
	seen := map[string]bool{}
	for _, e := range edits {
		if n := v.nodes[e.Name]; n != nil && !seen[e.Name] {
			seen[e.Name] = true
			v.change(n, f)
		}
	}
}

// change is alter; mu must be held.
func (v *view) change(n *node, f func(*remote)) {
	old := n.state.Load()
	now := *old
	f(&now)
	if now.entry.Version == old.entry.Version && now.entry.From == old.entry.From && value.Equal(now.entry.Value, old.entry.Value) &&
		now.known == old.known && now.old == old.old && now.away == old.away && now.sending == old.sending && now.queued == old.queued && now.refused == old.refused {
		return
	}
	n.publish(&now)
	for w := range v.watchers {
		if w.wants(n.name) {
			w.notify(n.name)
		}
	}
}

// question returns what to ask the server next.
func (v *view) question() question {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.replica.question()
}

// idle reports whether nothing is requested.
func (v *view) idle() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.replica.nothing()
}

// position returns the mark up to which everything is known; the zero Mark means none yet.
func (v *view) position() mark.Mark {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.replica.mark
}

// writing returns what a write is sent with.
func (v *view) writing() (asking, mark.Mark) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.replica.write(), v.replica.mark
}

// askForAll makes the next question, which is sent at once, request everything instead of changes, if
// the view has one of the names.
func (v *view) askForAll(names ...string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if slices.ContainsFunc(names, func(name string) bool { return v.nodes[name] != nil }) {
		v.replica.forgetMark()
		v.ask()
	}
}

// A taken is how a view used an answer.
type taken struct {
	changed []string // names
	fresh   bool     // false: the answer came too late to be used
	same    bool     // the question that it answered is still the one to ask
	gap     bool     // there are changes before it that are not known yet
}

// take updates the view with an answer. It returns an error if the answer has no mark.
func (v *view) take(a asking, p *wire.Page) (taken, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	changed, fresh, err := v.replica.take(a, p)
	for _, name := range changed {
		e, n := v.replica.entries[name], v.nodes[name]
		if n == nil {
			n = v.add(name)
		}
		v.change(n, func(r *remote) {
			if e.Version != r.entry.Version && !r.kept {
				r.refused = nil // a new value ends Refused
			}
			r.entry, r.known, r.old, r.away = e, true, false, nil
		})
	}
	if p.Whole && fresh && err == nil { // an earlier launch knew it, and the server does not have it
		for name, n := range v.nodes {
			if _, found := v.replica.entries[name]; !found && v.replica.has(name) && n.state.Load().old {
				v.change(n, func(r *remote) { r.entry, r.known, r.old = entry.Entry{Name: name}, true, false })
			}
		}
	}
	if v.memory != nil {
		v.memory.learn(changed, v.replica.entries)
	}
	return taken{changed, fresh, v.replica.epoch == a.epoch, len(v.replica.seen) > 0}, err
}

// unchanged records that nothing has changed up to a mark.
func (v *view) unchanged(a asking, now mark.Mark) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.replica.unchanged(a, now)
}

// moved records that only names that are not requested have changed up to a mark. It reports whether
// the mark is used.
func (v *view) moved(a asking, now mark.Mark) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.replica.moved(a, now)
}

// removed records that this Board removed names: no answer says who did.
func (v *view) removed(gone []entry.Gone) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, g := range gone {
		if n := v.nodes[g.Name]; n != nil {
			v.change(n, func(r *remote) {
				if r.entry.Version == g.Version && r.entry.Value.IsZero() {
					r.entry.From = v.from
				}
			})
		}
	}
}

// attempted records how the newest attempt to reach the server ended.
func (v *view) attempted(err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	before := v.away
	v.away = err
	if err == nil {
		v.answered, v.asOf = true, time.Now()
	}
	if codeOf(before) != codeOf(err) {
		for _, n := range v.nodes {
			v.change(n, func(r *remote) { r.away = err })
		}
	}
	for w := range v.watchers {
		w.notify("") // somebody can wait for the first answer
	}
}

// heard records that the server has answered a write, which confirms nothing else.
func (v *view) heard() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.answered = true
}

// confirmed returns when the server last confirmed what is shown.
func (v *view) confirmed() time.Time {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.asOf
}

// shown returns what variables show of those names that have any: without a value if it is absent or
// unknown.
func (v *view) shown(names []string) map[string]entry.Entry {
	v.mu.Lock()
	defer v.mu.Unlock()
	seen := map[string]entry.Entry{}
	for _, name := range names {
		n := v.nodes[name]
		if n == nil {
			continue
		}
		seen[name] = entry.Entry{}
		if r := n.state.Load(); !r.entry.Value.IsZero() {
			seen[name] = r.entry
		}
	}
	return seen
}

// withSeen returns edits whose plain puts say what the variables show, so that the server can report
// what they replace unseen.
func (v *view) withSeen(edits []entry.Edit) []entry.Edit {
	v.mu.Lock()
	defer v.mu.Unlock()
	var out []entry.Edit
	for i, e := range edits {
		n := v.nodes[e.Name]
		if e.Op.Verb != value.Put || e.Name == "" || !e.Cond.IsZero() || e.Seen != nil || n == nil || !n.bound {
			continue
		}
		if out == nil {
			out = slices.Clone(edits)
		}
		seen := entry.Tag{}
		if r := n.state.Load(); !r.entry.Value.IsZero() {
			seen = entry.TagOf(r.entry.Version, r.entry.Updated)
		}
		out[i].Seen = &seen
	}
	if out == nil {
		return edits
	}
	return out
}

// states returns what is known of nodes at one moment.
func (v *view) states(nodes []*node) []*remote {
	v.mu.Lock()
	defer v.mu.Unlock()
	now := make([]*remote, len(nodes))
	for i, n := range nodes {
		now[i] = n.state.Load()
	}
	return now
}

// statesOf returns what is known of the names that the view has.
func (v *view) statesOf(names []string) map[string]*remote {
	v.mu.Lock()
	defer v.mu.Unlock()
	now := map[string]*remote{}
	for _, name := range names {
		if n := v.nodes[name]; n != nil {
			now[name] = n.state.Load()
		}
	}
	return now
}

// under returns the known entries whose names begin with one of the prefixes, sorted by name.
func (v *view) under(prefixes ...string) (entries []entry.Entry) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for name, n := range v.nodes {
		begins := func(p string) bool { return strings.HasPrefix(name, p) }
		if e := n.state.Load().entry; slices.ContainsFunc(prefixes, begins) && !e.Value.IsZero() {
			entries = append(entries, e)
		}
	}
	slices.SortFunc(entries, func(a, b entry.Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries
}

// boundNames returns the names of all variables.
func (v *view) boundNames() (names []string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for name, n := range v.nodes {
		if n.bound {
			names = append(names, name)
		}
	}
	return names
}

// setCheck sets the Check of a node's key.
func (v *view) setCheck(n *node, check func(value.Value) error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	n.check = check
}

// checkOf returns the Check of a name's key; nil means none.
func (v *view) checkOf(name string) func(value.Value) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if n := v.nodes[name]; n != nil {
		return n.check
	}
	return nil
}
