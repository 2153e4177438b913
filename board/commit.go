package board

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A write is a change that is being sent, with its idempotency key.
type write struct {
	op    string
	edits []entry.Edit
	key   string
	since string // the mark of the board at the first attempt; "" means unknown
	// base is what variables showed of its names when it was made, and the results of own changes
	// since; only with Offline, and not after a relaunch. The outbox's mu guards it.
	base map[string]entry.Entry
}

// names returns the names of the edits.
func (w *write) names() (names []string) {
	for _, e := range w.edits {
		if e.Name != "" {
			names = append(names, e.Name)
		}
	}
	return names
}

// about reports whether an edit changes a name.
func (w *write) about(name string) bool {
	return slices.ContainsFunc(w.edits, func(e entry.Edit) bool { return e.Name == name })
}

// write is the only path of changes to the board. Variables show Sending meanwhile. If it can't be
// sent, it is queued, if there is an outbox.
func (b *Board) write(ctx context.Context, op string, edits []entry.Edit) (done *wire.Page, err error) {
	return b.writeOr(ctx, op, edits, b.outbox)
}

// writeNow is write for changes that can't be queued because their answer is needed.
func (b *Board) writeNow(ctx context.Context, op string, edits []entry.Edit) (done *wire.Page, err error) {
	if b.outbox != nil && b.outbox.waiting(b) > 0 {
		return done, b.conn.fail(op, namesOf(edits), &Error{Index: -1, Code: "unavailable", Err: ErrUnreachable, Sentence: "other changes wait to be sent, and this one can't be queued behind them: try again in a while"})
	}
	return b.writeOr(ctx, op, edits, nil)
}

// writeOr sends edits, or puts them into an outbox; nil means that there is none.
func (b *Board) writeOr(ctx context.Context, op string, edits []entry.Edit, o *outbox) (done *wire.Page, err error) {
	if ctx == nil {
		panic("board: a write needs a context, not nil; use context.Background() if there is none")
	}
	if err := b.checkEdits(op, edits); err != nil {
		return done, err
	}
	if err := ctx.Err(); err != nil && b.ctx.Err() == nil { // nothing is sent and nothing is queued
		return done, b.conn.fail(op, namesOf(edits), b.conn.unreachable(err))
	}
	edits = b.view.withSeen(edits)
	b.view.alterEach(edits, func(r *remote) { r.sending++; r.refused, r.kept = nil, false })
	defer func() {
		b.view.alterEach(edits, func(r *remote) {
			r.sending--
			if err != nil && !unsure(err) && !errors.Is(err, ErrQueued) && b.ctx.Err() == nil {
				r.refused = err
			}
		})
	}()
	w := &write{op: op, edits: edits, key: draw()}
	if b.outbox != nil {
		b.outbox.begin(b, w)
		defer b.outbox.end(w)
	}
	if o != nil && b.mustQueue() {
		return done, o.add(b, *w, false)
	}
	page, err := b.sendWrite(ctx, w)
	if o != nil && err != nil && unsure(err) && ctx.Err() != context.Canceled && b.ctx.Err() == nil {
		return done, o.add(b, *w, !notDone(err))
	}
	if b.outbox != nil && err == nil {
		b.outbox.stored(b, w, page)
	}
	if err != nil && b.ctx.Err() != nil && w.since != "" { // it was being sent
		err = b.conn.fail(op, namesOf(edits), &Error{Index: -1, Code: "uncertain", Sentence: "the board was closed while the change was being sent; it may have been stored", Err: errors.Join(pantry.ErrClosed, ErrUncertain)})
	}
	if err != nil {
		return done, err
	}
	return page, nil
}

// mustQueue reports whether a new change must be queued: others wait before it, or the server is out
// of reach.
func (b *Board) mustQueue() bool { return b.poller.isAway() || b.outbox.waiting(b) > 0 }

// checkEdits checks edits before they are sent.
func (b *Board) checkEdits(op string, edits []entry.Edit) error {
	if len(edits) > MaxOps {
		return b.conn.fail(op, "", refuse.As(pantry.ErrInvalid, "it has %d ops, and the maximum is %d: make several commits", len(edits), MaxOps))
	}
	for _, o := range edits {
		if o.Bad != nil {
			return b.conn.fail(op, o.Name, o.Bad)
		}
		if o.Reset || o.Restore != nil {
			continue
		}
		if err := pantry.CheckName(o.Name); err != nil {
			return b.conn.fail(op, o.Name, err)
		}
	}
	return nil
}

// sendWrite sends a write, updates the view with its result, and returns that.
func (b *Board) sendWrite(ctx context.Context, w *write) (*wire.Page, error) {
	a, mark := b.view.writing()
	header := asJSON()
	header.Set("Idempotency-Key", w.key)
	if w.since != "" { // it was sent before
		header.Set("Idempotency-Since", w.since)
	} else {
		w.since = mark.String()
	}
	rq := request{op: w.op, method: http.MethodPost, path: "/commit", body: wire.AppendEdits(nil, w.edits), header: header, since: w.since}
	about := namesOf(w.edits)
	got, err := b.conn.send(ctx, rq)
	b.poller.wrote(ctx, err)
	if err != nil {
		return nil, b.conn.fail(w.op, about, err)
	}
	page, err := b.conn.readPage(got.body)
	if err == nil && len(page.Results) != len(w.edits) {
		err = unexpected(fmt.Errorf("it has results of %d ops, and %d were sent", len(page.Results), len(w.edits)))
	}
	if err != nil {
		return nil, b.conn.fail(w.op, about, err)
	}
	b.poller.show(ctx, a, page)
	b.report.nearNames(page.Findings)
	for i, r := range page.Results {
		if r.Replaced != nil {
			name := w.edits[i].Name
			b.report.problem(name, &ReplacedError{Name: name, Lost: pantry.Entry(*r.Replaced), Now: stored(page, name)})
		}
	}
	return page, nil
}

// stored returns the value of a name in a page.
func stored(page *wire.Page, name string) value.Value {
	for _, e := range page.Entries {
		if e.Name == name {
			return e.Value
		}
	}
	return value.Value{}
}

// namesOf returns the names of ops, for an error.
func namesOf(ops []entry.Edit) string {
	const few = 3
	var names []string
	for _, o := range ops {
		if o.Name != "" {
			names = append(names, o.Name)
		}
	}
	if more := len(names) - few; more > 1 {
		names = append(names[:few], fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, ", ")
}

// Put stores a value under a name without a key and returns the entry. An entry keeps its kind: a
// value of another kind is converted exactly, or refused with pantry.ErrWrongKind. An Op with a
// Kind changes the kind.
func (b *Board) Put(ctx context.Context, name string, v value.Value) (pantry.Entry, error) {
	if err := v.Check(); err != nil {
		return pantry.Entry{}, b.conn.fail("put", name, err)
	}
	done, err := b.write(ctx, "put", []entry.Edit{{Name: name, Op: value.Op{Verb: value.Put, Operand: v}}})
	if err != nil {
		return pantry.Entry{}, err
	}
	return b.only("put", name, done)
}

// only returns the entry of a commit with one name.
func (b *Board) only(op, name string, done *wire.Page) (pantry.Entry, error) {
	if len(done.Entries) != 1 || done.Entries[0].Name != name {
		return pantry.Entry{}, b.conn.fail(op, name, unexpected(fmt.Errorf("it has %d entries, and %s was written", len(done.Entries), name)))
	}
	return pantry.Entry(done.Entries[0]), nil
}

// Drop removes the entries in one commit. If one of them is absent, the error is pantry.ErrAbsent
// and nothing is removed.
func (b *Board) Drop(ctx context.Context, names ...string) error {
	ops := make([]entry.Edit, len(names))
	for i, name := range names {
		ops[i] = entry.Edit{Name: name, Op: value.Op{Verb: value.Drop}}
	}
	_, err := b.write(ctx, "drop", ops)
	return err
}

// Forget removes the entries, one after the other, and erases them from the server's history. If an
// entry is absent and has no history either, the error is pantry.ErrAbsent, and the entries after
// it are unchanged.
func (b *Board) Forget(ctx context.Context, names ...string) error {
	for _, name := range names {
		if err := pantry.CheckName(name); err != nil {
			return b.conn.fail("forget", name, err)
		}
		_, err := b.conn.send(ctx, request{op: "forget", method: http.MethodDelete, path: entryPath(name), query: url.Values{"forget": {"true"}}, header: http.Header{"Idempotency-Key": {draw()}}})
		if err != nil {
			return b.conn.fail("forget", name, err)
		}
		b.view.askForAll(name)
	}
	return nil
}
