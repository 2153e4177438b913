package board

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// The namespace of an outbox holds the Client-Instance, so that its changes count once; each change
// under queue/ and its number; and what is known of the board under known/.
const (
	instanceName = "instance"
	asOfName     = "as-of" // when the server last confirmed what is known
	queuePrefix  = "queue/"
	knownPrefix  = "known/"
)

// An outbox stores on the device what waits to be sent to a board, and what is known of the board. All
// Boards of this process that use the same directory share one.
type outbox struct {
	id       string // in outboxes
	ns       *pantry.Namespace
	release  func() error // releases the lock on the directory
	instance string       // the Client-Instance of the Boards
	from     string       // as others see it
	kick     chan struct{}
	found    chan pantry.Problem // of the namespace
	ctx      context.Context     // ends when the last Board is closed
	cancel   context.CancelFunc
	done     sync.WaitGroup

	kmu    sync.Mutex             // guards the following fields; view.mu may be held before it, not after
	last   map[string]entry.Entry // known, possibly from an earlier launch
	asOf   time.Time              // when the server last confirmed it
	dirty  map[string]entry.Entry // known and not saved; without a value: absent
	saving *time.Timer

	mu     sync.Mutex // guards the following fields; view.mu may be held before it, not after
	boards []*Board   // that use it
	items  []*item    // by number
	out    *item      // being sent; nil means none
	making []*write   // changes of the Boards that are neither stored nor queued yet
	stores int64      // counts the changes that were stored
	unseen map[*Board]map[string]unseen
	next   int64
	silent bool // the instance is lost: nothing is sent
}

// A memory is what a view uses of an outbox. view.mu can be held during its calls.
type memory interface {
	// about returns how many changes of a name wait to be sent, and why the newest refused one was
	// refused.
	about(name string) (queued int, refused error)
	// known returns what an earlier launch knew of a name.
	known(name string) (entry.Entry, bool)
	// knownUnder returns the names with a prefix that an earlier launch knew.
	knownUnder(prefix string) []string
	// learn saves what is known of names for the next launch.
	learn(names []string, entries map[string]entry.Entry)
}

// A seat is the place of a Board in an outbox: what the Board's view uses of it.
type seat struct {
	*outbox
	b *Board
}

func (s seat) about(name string) (queued int, refused error) { return s.outbox.about(s.b, name) }

// outboxes holds the open outboxes by directory and namespace.
var outboxes = struct {
	sync.Mutex
	open map[string]*outbox
}{open: map[string]*outbox{}}

// namespaceOf returns the name of the namespace of a board's outbox.
func namespaceOf(l link) string {
	sum := sha256.Sum256([]byte(l.base + "/" + l.board))
	return l.board[:min(len(l.board), 40)] + "-" + hex.EncodeToString(sum[:4])
}

// useOutbox sets a Board's outbox to that of a directory, and its instance. The first Board opens it.
func (b *Board) useOutbox(dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	id := filepath.Join(dir, namespaceOf(b.conn.link))
	outboxes.Lock()
	defer outboxes.Unlock()
	o := outboxes.open[id]
	if o == nil {
		if o, err = openOutbox(b, id, dir); err != nil {
			return err
		}
		outboxes.open[id] = o
		o.done.Go(o.run)
	}
	b.outbox, b.conn.instance = o, o.instance
	b.view.memory, b.view.from, b.view.asOf = seat{o, b}, o.from, o.confirmed()
	o.mu.Lock()
	o.boards = append(o.boards, b) // from now on it sends
	o.mu.Unlock()
	o.wake()
	return nil
}

// leave ends the use by a Board. The last one closes the outbox. The Board must not use it any more.
func (o *outbox) leave(b *Board) error {
	outboxes.Lock()
	defer outboxes.Unlock()
	o.confirm(b.view.confirmed())
	o.mu.Lock()
	o.boards = slices.DeleteFunc(o.boards, func(other *Board) bool { return other == b })
	delete(o.unseen, b)
	last := len(o.boards) == 0
	o.mu.Unlock()
	if !last {
		o.wake() // another Board sends from now on
		return nil
	}
	delete(outboxes.open, o.id)
	o.cancel()
	o.done.Wait()
	o.kmu.Lock()
	if o.saving != nil {
		o.saving.Stop()
	}
	o.kmu.Unlock()
	return errors.Join(o.saveKnown(), o.ns.Close(), o.release())
}

// openOutbox opens an outbox for its first Board.
func openOutbox(b *Board, id, dir string) (*outbox, error) {
	release, err := journal.Hold(filepath.Join(dir, "."+namespaceOf(b.conn.link)+".outbox"))
	if err != nil {
		return nil, fmt.Errorf("another process uses the directory of Offline: %w", err)
	}
	o := &outbox{
		id: id, release: release, instance: b.conn.instance, found: make(chan pantry.Problem, 16), kick: make(chan struct{}, 1),
		last: map[string]entry.Entry{}, dirty: map[string]entry.Entry{}, unseen: map[*Board]map[string]unseen{}, next: 1,
	}
	o.ns, err = pantry.Open(dir, namespaceOf(b.conn.link), pantry.ClientName(b.opts.clientName), pantry.OnProblem(func(p pantry.Problem) {
		select { // a goroutine without locks reports it
		case o.found <- p:
		default:
		}
	}))
	if err != nil {
		return nil, errors.Join(err, release())
	}
	o.ctx, o.cancel = context.WithCancel(context.Background())
	for e := range o.ns.Entries(knownPrefix) {
		var known entry.Entry
		if known.UnmarshalJSON(e.Value.AppendJSON(nil)) == nil && known.Name == e.Name[len(knownPrefix):] {
			o.last[known.Name] = known
		}
	}
	for e := range o.ns.Entries(queuePrefix) {
		it, err := readItem(e)
		if err != nil {
			b.report.problem(e.Name, err)
			continue
		}
		o.items = append(o.items, it)
		o.next = max(o.next, it.number+1)
	}
	if e, found := o.ns.Entry(asOfName); found {
		o.asOf, _ = e.Value.AsTime()
	}
	slices.SortFunc(o.items, func(a, b *item) int { return int(a.number - b.number) })
	e, found := o.ns.Entry(instanceName)
	instance, ok := e.Value.AsText()
	switch {
	case found && ok && len(instance) == len(o.instance):
		o.instance = instance
	case len(o.items) > 0: // a repeat would count twice
		o.silent = true
		b.report.problem(instanceName, errors.New("the id that these queued changes were sent with is lost, so they might count twice: they are kept, and not sent; see Pending"))
	}
	o.from = wire.InstanceID(o.instance)
	return o, nil
}

// wake makes the outbox send now.
func (o *outbox) wake() {
	select {
	case o.kick <- struct{}{}:
	default:
	}
}

// users returns the Boards that use the outbox with the link of a change.
func (o *outbox) users(it *item) (all []*Board) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, b := range o.boards {
		if it.of(b) {
			all = append(all, b)
		}
	}
	return all
}

// show makes the Boards show how many changes of each name of a change wait, after items has changed,
// and with refused also why the newest refused one was refused. mu must not be held. It counts each
// time, because a view can learn of a name at any moment, and then counts too.
func (o *outbox) show(it *item, refused bool) {
	o.mu.Lock()
	edits := slices.Clone(it.edits) // rebase can change the conditions meanwhile
	o.mu.Unlock()
	for _, b := range o.users(it) {
		b.view.alterEach(edits, func(r *remote) {
			queued, err := o.about(b, r.entry.Name)
			if r.queued = queued; refused {
				r.refused, r.kept = err, err != nil
			}
		})
	}
}

// report reports a problem to the Boards.
func (o *outbox) report(name string, err error) {
	o.mu.Lock()
	boards := slices.Clone(o.boards)
	o.mu.Unlock()
	for _, b := range boards {
		b.report.problem(name, err)
	}
}

// about returns how many changes of a name wait to be sent with a Board's link, and why the newest
// refused one was refused.
func (o *outbox) about(b *Board, name string) (n int, refused error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, it := range o.items {
		switch {
		case !it.about(name), !it.of(b):
		case it.code == "":
			n++
		default:
			refused = it.err(b)
		}
	}
	return n, refused
}

// after returns the value of a name after all changes that wait with a Board's link. The zero Value
// means absent.
func (o *outbox) after(b *Board, name string, now value.Value) value.Value {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, it := range o.items {
		if it.code != "" || !it.of(b) || !it.about(name) {
			continue
		}
		for _, e := range it.edits {
			if e.Name == name {
				if next, _, err := e.Op.Apply(now); err == nil {
					now = next
				}
			}
		}
	}
	return now
}

// waiting returns how many changes wait to be sent with a Board's link.
func (o *outbox) waiting(b *Board) (n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, it := range o.items {
		if it.code == "" && it.of(b) {
			n++
		}
	}
	return n
}

// add queues a change of a Board, and returns ErrQueued once it is on disk. sent means that it may have
// arrived.
func (o *outbox) add(b *Board, w write, sent bool) error {
	it, err := o.keep(b, w, sent)
	if err == nil && it != nil {
		o.show(it, false)
		o.wake()
	}
	if err != nil {
		return b.conn.fail(w.op, namesOf(w.edits), &Error{Index: -1, Code: "unreachable", Sentence: "the server can't be reached, and the change could not be kept: " + err.Error(), Err: errors.Join(ErrUnreachable, err)})
	}
	return b.conn.fail(w.op, namesOf(w.edits), &Error{Index: -1, Code: "queued", Sentence: "the server can't be reached; the change is kept, and will be sent", Err: ErrQueued})
}

// keep stores a change, and returns its item, or nil if it was merged into another one.
func (o *outbox) keep(b *Board, w write, sent bool) (*item, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if b.ctx.Err() != nil {
		return nil, closedByApp()
	}
	it := &item{number: o.next, write: w, sent: sent, link: b.conn.link.id()}
	it.edits = slices.Clone(w.edits)
	if !sent { // a change that was sent must be repeated unchanged
		for i := range it.edits {
			e := &it.edits[i]
			if v := e.Op.Verb; (v == value.Put || v == value.Drop) && e.Name != "" && e.Cond.IsZero() {
				*e = e.If(w.base[e.Name].Version, w.base[e.Name].Updated)
			}
		}
		if merged := o.merged(it); merged != nil {
			if err := o.save(merged); err != nil { // the queued one is unchanged
				return nil, err
			}
			o.items[len(o.items)-1] = merged
			return nil, nil
		}
	}
	if err := o.save(it); err != nil {
		return nil, err
	}
	o.next++
	o.items = append(o.items, it)
	return it, nil
}

// merged returns the newest item with the put of it in place of its own, if both put the same name and
// the queued one was not sent. mu must be held.
func (o *outbox) merged(it *item) *item {
	if len(o.items) == 0 {
		return nil
	}
	last := o.items[len(o.items)-1]
	now, before := it.put(), last.put()
	if last.sent || last == o.out || last.code != "" || last.link != it.link || now == nil || before == nil || now.Name != before.Name {
		return nil
	}
	merged := *last
	merged.edits, merged.op = []entry.Edit{*now}, it.op // with the base of the newer one
	merged.edits[0].Seen = before.Seen
	return &merged
}

// save stores the item on disk, with the instance. mu must be held.
func (o *outbox) save(it *item) error {
	v, err := it.stored()
	if err != nil {
		return err
	}
	return o.ns.Commit(func(batch *pantry.Batch) error {
		if err := batch.Put(instanceName, value.Text(o.instance)); err != nil {
			return err
		}
		return batch.Put(it.name(), v)
	})
}
