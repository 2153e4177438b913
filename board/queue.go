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
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/value"
)

// The namespace of a queue holds the Client-Instance, so that its changes count once; each change
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

// close saves the known values.
func (q *queue) close() error {
	q.kmu.Lock()
	if q.saving != nil {
		q.saving.Stop()
	}
	q.kmu.Unlock()
	return errors.Join(q.saveKnown(), q.ns.Close(), q.release())
}
