package board

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A Pending is a change that waits to be sent, or that was refused. Then Err has the reason, and
// the change is kept until it is retried or discarded.
type Pending struct {
	ID    string
	Ops   []Op
	Sent  bool // it may have arrived
	Other bool // it was made with another link, and is sent only with that one; see Retry
	Err   error
}

// Pending returns the queued changes and those that were refused, oldest first; none without
// Offline.
func (b *Board) Pending() []Pending {
	if b.queue == nil {
		return nil
	}
	return b.queue.list()
}

// Retry sends a change again that was refused, as the user's decision: a Set or a Clear then
// replaces what is stored now. It also takes over a change that was made with another link and
// certainly did not arrive. The error is pantry.ErrAbsent if there is no such change,
// pantry.ErrConflict if it may have arrived with another link, and those of a device's Set.
func (b *Board) Retry(id string) error {
	if b.queue == nil {
		return b.fail("retry", "", pantry.ErrAbsent)
	}
	return b.queue.retry(id)
}

// Discard removes a change from the queue: one that was refused, or that is not to be sent any
// more. The error is pantry.ErrAbsent if there is no such ID, pantry.ErrBusy while the change is
// being sent, and those of a device's Set.
func (b *Board) Discard(id string) error {
	if b.queue == nil {
		return b.fail("discard", "", pantry.ErrAbsent)
	}
	return b.queue.discard(id)
}

// The namespace of a queue holds the Client-Instance, by which its changes count once; each change
// under queue/ and its number; and what is known of the board under known/.
const (
	instanceName = "instance"
	asOfName     = "as-of" // when the server last confirmed what is known
	queuePrefix  = "queue/"
	knownPrefix  = "known/"
)

// saveAfter is the time until known values are saved.
const saveAfter = time.Second

// A queue stores on the device what waits to be sent, and what is known.
type queue struct {
	b       *Board
	ns      *pantry.Namespace
	release func() error // releases the lock on the directory
	link    string       // the ID of the token, to which receipts are bound
	last    map[string]Entry
	kick    chan struct{}
	met     chan pantry.Problem // of the namespace

	kmu    sync.Mutex       // guards dirty and saving; Board.mu may be held before it, not after
	dirty  map[string]Entry // known and not saved; without a value: absent
	saving *time.Timer

	mu     sync.Mutex // guards the following fields; Board.mu may be held before it, not after
	items  []*item    // by number
	out    *item      // being sent; nil means none
	next   int64
	silent bool // the instance is lost: nothing is sent
}

// namespaceOf returns the name of the namespace for a board's queue.
func namespaceOf(l link) string {
	sum := sha256.Sum256([]byte(l.base + "/" + l.board))
	return l.board[:min(len(l.board), 40)] + "-" + hex.EncodeToString(sum[:4])
}

// openQueue opens the queue of a board, and uses its instance.
func openQueue(b *Board, dir string) (*queue, error) {
	met := make(chan pantry.Problem, 16)
	release, err := journal.Hold(filepath.Join(dir, "."+namespaceOf(b.link)+".outbox"))
	if err != nil {
		return nil, fmt.Errorf("the directory of Offline is used by another Board, of this app or of another process: %w", err)
	}
	ns, err := pantry.Open(dir, namespaceOf(b.link), pantry.ClientName(b.opts.clientName), pantry.OnProblem(func(p pantry.Problem) {
		select { // a goroutine without locks reports it
		case met <- p:
		default:
		}
	}))
	if err != nil {
		return nil, errors.Join(err, release())
	}
	id, _, _ := strings.Cut(b.link.token, ".")
	q := &queue{b: b, ns: ns, release: release, met: met, link: id, last: map[string]Entry{}, kick: make(chan struct{}, 1), dirty: map[string]Entry{}, next: 1}
	for e := range ns.Entries(knownPrefix) {
		var known Entry
		if known.UnmarshalJSON(e.Value.AppendJSON(nil)) == nil && known.Name == e.Name[len(knownPrefix):] {
			q.last[known.Name] = known
		}
	}
	for e := range ns.Entries(queuePrefix) {
		it, err := readItem(e)
		if err != nil {
			b.problem(e.Name, err)
			continue
		}
		q.items = append(q.items, it)
		q.next = max(q.next, it.number+1)
	}
	if e, found := ns.Entry(asOfName); found {
		b.asOf, _ = e.Value.AsTime()
	}
	slices.SortFunc(q.items, func(a, b *item) int { return int(a.number - b.number) })
	e, found := ns.Entry(instanceName)
	instance, ok := e.Value.AsText()
	switch {
	case found && ok && len(instance) == len(b.instance):
		b.instance = instance
	case len(q.items) > 0: // a repeat would count twice
		q.silent = true
		b.problem(instanceName, errors.New("the id that these queued changes were sent with is lost, so they might count twice: they are kept, and not sent; see Pending"))
	}
	return q, nil
}

// start sends the queue, whenever the server is reached, until the board is closed.
func (q *queue) start() {
	q.b.done.Go(q.run)
	q.wake()
}

// wake sends the queue now.
func (q *queue) wake() {
	select {
	case q.kick <- struct{}{}:
	default:
	}
}

// about returns how many changes of a name wait, and why the newest refused one was refused.
func (q *queue) about(name string) (n int, refused error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, it := range q.items {
		switch {
		case !it.about(name), q.others(it):
		case it.code == "":
			n++
		default:
			refused = it.err(q.b)
		}
	}
	return n, refused
}

// waiting returns how many changes wait.
func (q *queue) waiting() (n int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, it := range q.items {
		if it.code == "" && !q.others(it) {
			n++
		}
	}
	return n
}

// others reports whether a change belongs to another link; mu must be held.
func (q *queue) others(it *item) bool { return it.link != "" && it.link != q.link }

// goesFirst reports whether a new change must be queued: others wait before it, or the server is
// out of reach.
func (q *queue) goesFirst() bool {
	return q.away() || q.waiting() > 0
}

// away reports whether the newest attempt did not reach the server.
func (q *queue) away() bool {
	q.b.mu.Lock()
	defer q.b.mu.Unlock()
	return q.b.status.Err != nil && unsure(q.b.status.Err)
}

func (q *queue) list() []Pending {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := make([]Pending, len(q.items))
	for i, it := range q.items {
		out[i] = Pending{ID: it.id(), Ops: slices.Clone(it.edits), Sent: it.sent, Other: q.others(it), Err: it.err(q.b)}
	}
	return out
}

// add queues a change, and returns ErrQueued once it is on disk. sent means that it may have
// arrived.
func (q *queue) add(w write, sent bool) (queued bool, err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.b.ctx.Err() != nil {
		return false, closedByApp()
	}
	it := &item{number: q.next, write: w, sent: sent, link: q.link}
	it.edits = slices.Clone(w.edits)
	if !sent { // a change that was sent must be repeated unchanged
		for i := range it.edits {
			e := &it.edits[i]
			if v := e.Op.Verb; (v == value.Put || v == value.Drop) && e.Name != "" && e.Cond.IsZero() {
				*e = e.If(w.base[e.Name].Version, w.base[e.Name].Updated)
			}
		}
		if merged := q.merged(it); merged != nil {
			if err := q.save(merged); err != nil { // the queued one is unchanged
				return false, q.fail(w, err)
			}
			q.items[len(q.items)-1] = merged
			return false, q.fail(w, nil)
		}
	}
	if err := q.save(it); err != nil {
		return false, q.fail(w, err)
	}
	q.next++
	q.items = append(q.items, it)
	q.wake()
	return true, q.fail(w, nil)
}

// fail returns ErrQueued, or why the change could not be queued.
func (q *queue) fail(w write, err error) error {
	if err == nil {
		err = &Error{Index: -1, Code: "queued", Sentence: "the server can't be reached; the change is kept, and will be sent", Err: ErrQueued}
	} else {
		err = &Error{Index: -1, Code: "unreachable", Sentence: "the server can't be reached, and the change could not be kept: " + err.Error(), Err: errors.Join(ErrUnreachable, err)}
	}
	return q.b.fail(w.op, namesOf(w.edits), err)
}

// seen returns what variables show of the names of edits: version 0 for absent or unknown ones.
func (q *queue) seen(edits []Op) map[string]Entry {
	q.b.mu.Lock()
	defer q.b.mu.Unlock()
	seen := map[string]Entry{}
	for _, e := range edits {
		if n := q.b.nodes[e.Name]; n != nil {
			if r := n.state.Load(); !r.entry.Value.IsZero() {
				seen[e.Name] = r.entry
			}
		}
	}
	return seen
}

// merged returns the newest item of the queue with the put of it in place of its own, if both put
// the same name and the queued one was not sent; mu must be held.
func (q *queue) merged(it *item) *item {
	if len(q.items) == 0 {
		return nil
	}
	last := q.items[len(q.items)-1]
	now, before := it.put(), last.put()
	if last.sent || last == q.out || last.code != "" || last.link != it.link || now == nil || before == nil || now.Name != before.Name {
		return nil
	}
	merged := *last
	merged.edits, merged.op = []Op{*now}, it.op // with the base of the newer one
	return &merged
}

// save stores the item on disk, with the instance; mu must be held.
func (q *queue) save(it *item) error {
	v, err := it.stored()
	if err != nil {
		return err
	}
	return q.ns.Commit(func(batch *pantry.Batch) error {
		if err := batch.Put(instanceName, value.Text(q.b.instance)); err != nil {
			return err
		}
		return batch.Put(it.name(), v)
	})
}

// run sends the queue, in order.
func (q *queue) run() {
	const least, most = time.Second, 30 * time.Second
	pause, anyway := least, false
	for q.b.ctx.Err() == nil {
		// While the server is out of reach, new changes are merged and not sent. The polls find out
		// when it is back; if there are no polls, this does.
		if it := q.first(); it != nil && (anyway || !q.away()) {
			switch err := q.send(it); {
			case err == nil:
				pause = least
				continue
			case q.b.ctx.Err() != nil:
				return
			}
			pause = min(2*pause, most)
		}
		anyway = false
		var later <-chan time.Time
		if q.waiting() > 0 {
			later = time.After(pause)
		}
		select {
		case <-q.kick:
		case p := <-q.met:
			q.b.problem(p.Name, p.Err)
		case <-later:
			anyway = true
		case <-q.b.ctx.Done():
		}
	}
}

// first returns the oldest change that waits; nil means none, or that nothing may be sent.
func (q *queue) first() *item {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.silent {
		return nil
	}
	for _, it := range q.items {
		if it.code == "" && !q.others(it) {
			return it
		}
	}
	return nil
}

// send sends a change. An error means that it still waits.
func (q *queue) send(it *item) error {
	q.mu.Lock()
	about := slices.Clone(it.edits) // another change of the app can be merged meanwhile
	q.mu.Unlock()
	before := map[string]*remote{}
	q.b.mu.Lock()
	stands := q.b.view.mark.String()
	for _, e := range about {
		if n := q.b.nodes[e.Name]; n != nil {
			before[e.Name] = n.state.Load()
		}
	}
	q.b.mu.Unlock()
	q.mu.Lock()
	if !slices.Contains(q.items, it) { // merged or discarded meanwhile
		q.mu.Unlock()
		return nil
	}
	q.out = it
	defer func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		q.out = nil
	}()
	w := it.write
	w.edits = slices.Clone(it.edits)
	first := !it.sent
	if first {
		it.sent, it.link, it.since, w.since = true, q.link, stands, ""
		if err := q.save(it); err != nil { // then it must not be sent
			it.sent = false
			q.mu.Unlock()
			return err
		}
	}
	q.mu.Unlock()
	page, err := q.b.sendWrite(q.b.ctx, &w)
	switch {
	case err == nil:
		return q.done(it, page, before)
	case q.b.ctx.Err() != nil, unsure(err):
		if first && notDone(err) { // it can still be merged with others
			q.mu.Lock()
			it.sent, it.since = false, ""
			q.mu.Unlock()
		}
		return err
	case codeOf(err) == "unauthorized": // it says nothing about the change
		q.b.mu.Lock()
		q.b.tellOutage(err)
		q.b.mu.Unlock()
		return err
	case it.op == "seed" && errors.Is(err, pantry.ErrConflict), it.op == "clear" && errors.Is(err, pantry.ErrAbsent): // as it should be
		return q.done(it, nil, before)
	}
	q.refuse(it, err)
	return nil
}

// done removes a stored change from the queue.
func (q *queue) done(it *item, page *wire.Page, before map[string]*remote) error {
	q.mu.Lock()
	if err := q.ns.Drop(it.name()); err != nil && !errors.Is(err, pantry.ErrAbsent) {
		q.mu.Unlock()
		return err // sent again, it counts once
	}
	q.items = slices.DeleteFunc(q.items, func(other *item) bool { return other == it })
	if page != nil {
		for _, e := range page.Entries {
			q.rebase(it, e, before[e.Name])
		}
		for _, g := range page.Gone {
			q.rebase(it, Entry{Name: g.Name, Version: g.Version}, before[g.Name])
		}
	}
	q.mu.Unlock()
	q.b.eachOf(it.edits, func(r *remote) { r.queued-- })
	return nil
}

// rebase updates the base of later changes of a name after an own change, if that overwrote nothing
// that the app had not seen; mu must be held.
func (q *queue) rebase(it *item, now Entry, before *remote) {
	was, known := it.base[now.Name]
	if !known && before != nil {
		was = before.entry
	}
	var seen []entry.Tag // what a later change can have seen; nil means anything
	if put := it.put(); put != nil {
		// It was stored because nobody had changed its base, or because the app said so. Later
		// changes of the app are based on it.
		mine := now.Value.IsZero() && put.Op.Verb == value.Drop || now.From == q.b.from && value.Equal(now.Value, put.Op.Operand)
		if !mine {
			return
		}
	} else {
		own := was.Value
		for _, e := range it.edits {
			var err error
			if e.Name != now.Name {
				continue
			}
			if own, _, err = e.Op.Apply(own); err != nil {
				return
			}
		}
		if !value.Equal(own, now.Value) {
			return
		}
		seen = []entry.Tag{{}}
		if !was.Value.IsZero() {
			seen[0] = entry.TagOf(was.Version, was.Updated)
		}
	}
	for _, later := range q.items {
		changed := false
		for i := range later.edits {
			e := &later.edits[i]
			if e.Name != now.Name || later.sent || len(e.Cond.Is) != 1 || seen != nil && e.Cond.Is[0] != seen[0] {
				continue
			}
			version := now.Version
			if now.Value.IsZero() {
				version = 0
			}
			*e, changed = e.If(version, now.Updated), true
		}
		if changed {
			_ = q.save(later) // if it fails, it is reported as a conflict, and kept
		}
	}
}

// refuse keeps a refused change and reports it.
func (q *queue) refuse(it *item, err error) {
	q.mu.Lock()
	refused := *it
	refused.code, refused.says = codeOf(err), sentenceOf(err)
	bad := q.save(&refused) // if it fails, the change is refused again at the next launch
	err = refused.err(q.b)
	q.mu.Unlock()
	q.b.eachOf(it.edits, func(r *remote) {
		r.queued--
		r.refused, r.kept = err, true
	})
	q.mu.Lock() // from now on it can be discarded and retried
	it.code, it.says = refused.code, refused.says
	q.out = nil
	q.mu.Unlock()
	q.b.problem(namesOf(it.edits), errors.Join(err, bad))
}

func (q *queue) discard(id string) error {
	q.mu.Lock()
	i := slices.IndexFunc(q.items, func(it *item) bool { return it.id() == id })
	if i < 0 {
		q.mu.Unlock()
		return q.b.fail("discard", id, pantry.ErrAbsent)
	}
	it := q.items[i]
	if it == q.out {
		q.mu.Unlock()
		return q.b.fail("discard", id, &Error{Index: -1, Code: "busy", Sentence: "the change is being sent; try again in a while", Err: pantry.ErrBusy})
	}
	err := q.ns.Drop(it.name())
	if err == nil {
		q.items = slices.Delete(q.items, i, i+1)
	}
	q.mu.Unlock()
	if err != nil {
		return q.b.fail("discard", id, err)
	}
	q.b.eachOf(it.edits, func(r *remote) {
		if it.code == "" {
			r.queued--
		}
		r.refused, r.kept = nil, false
	})
	return nil
}

// retry makes a change wait again.
func (q *queue) retry(id string) error {
	q.mu.Lock()
	i := slices.IndexFunc(q.items, func(it *item) bool { return it.id() == id })
	if i < 0 {
		q.mu.Unlock()
		return q.b.fail("retry", id, pantry.ErrAbsent)
	}
	it := q.items[i]
	switch {
	case q.others(it) && it.sent:
		q.mu.Unlock()
		return q.b.fail("retry", id, &Error{Index: -1, Code: "conflict", Sentence: "the change may have arrived with the link that it was made with", Err: pantry.ErrConflict})
	case it.code == "" && !q.others(it): // it waits already
		q.mu.Unlock()
		q.wake()
		return nil
	}
	refused := it.code != ""
	again := *it
	again.link, again.code, again.says, again.sent, again.since, again.key = q.link, "", "", false, "", draw()
	again.edits = slices.Clone(it.edits)
	if put := again.put(); put != nil && refused {
		put.Cond = entry.Cond{}
	}
	if err := q.save(&again); err != nil {
		q.mu.Unlock()
		return q.b.fail("retry", id, err)
	}
	q.items[i] = &again
	q.mu.Unlock()
	q.b.eachOf(again.edits, func(r *remote) {
		r.queued++
		r.refused, r.kept = nil, false
	})
	q.wake()
	return nil
}

// close saves the known values.
func (q *queue) close() error {
	q.kmu.Lock()
	if q.saving != nil {
		q.saving.Stop()
	}
	q.kmu.Unlock()
	return errors.Join(q.saveKnown(), q.ns.Close(), q.release())
}
