package board

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// An Op is one step of a Commit: its Op, a value.Op, on the entry called Name;
// with Reset the removal of every entry whose name begins with Prefix; or a Restore. If
// makes it conditional.
type Op = entry.Edit

// A Committed is what a Commit did: the board's Version after it; the Entries
// that its ops are about, as they stand now, and those of them that are Gone; and
// in Results, for each op, whether it Changed something, and what was Taken.
type Committed = wire.Page

// MaxOps is how many ops one Commit has at most.
const MaxOps = wire.MaxEdits

// Commit makes all changes in one commit or, where one is refused, none.
//
// The errors are pantry.ErrConflict for a condition that does not hold;
// pantry.ErrAbsent for a drop, or a take, of what is not there; ErrWrongKind and
// ErrInvalid, also for more than MaxOps; ErrTooLarge; ErrUndeclared; ErrQuota;
// ErrTooLate; ErrUnreachable, after which the changes may have been made or not.
func (b *Board) Commit(ctx context.Context, ops ...Op) (Committed, error) {
	return b.commit(ctx, "commit", ops)
}

// commit is the one way by which a board is written.
func (b *Board) commit(ctx context.Context, op string, ops []Op) (Committed, error) {
	about := namesOf(ops)
	if len(ops) > MaxOps {
		return Committed{}, b.fail(op, "", refuse.As(pantry.ErrInvalid, "it has %d ops, and %d is the most: make several commits", len(ops), MaxOps))
	}
	for _, o := range ops {
		if o.Reset || o.Restore != nil {
			continue
		}
		if err := pantry.CheckName(o.Name); err != nil {
			return Committed{}, b.fail(op, o.Name, err)
		}
		if o.Force {
			return Committed{}, b.fail(op, o.Name, refuse.As(pantry.ErrInvalid, "the server of a board holds every app to what is declared there; force works on a device"))
		}
	}
	b.mu.Lock()
	a, stands := b.view.write(), b.view.mark
	b.mu.Unlock()
	header := http.Header{"Content-Type": {"application/json"}, "Idempotency-Key": {draw()}}
	rq := request{op: op, method: http.MethodPost, path: "/commit", body: wire.AppendEdits(nil, ops), header: header, since: stands.String()}
	got, err := b.send(ctx, rq)
	if err != nil {
		return Committed{}, b.fail(op, about, err)
	}
	page, err := b.readPage(got.body)
	if err == nil && len(page.Results) != len(ops) {
		err = unexpected(fmt.Errorf("it tells of %d ops, and %d were sent", len(page.Results), len(ops)))
	}
	if err != nil {
		return Committed{}, b.fail(op, about, err)
	}
	// An answer to what was asked before something else was taken in means nothing any
	// more; but what is stored is to be shown when the call returns.
	for try := 0; try < mostCatchUp && !b.learnFrom(a, page); try++ {
		if _, err := b.pollOnce(); err != nil {
			break // the polls go on
		}
		b.mu.Lock()
		shown := b.view.mark.Version >= page.Version
		b.mu.Unlock()
		if shown {
			break
		}
	}
	b.removed(page.Gone)
	return *page, nil
}

// namesOf gives the names that ops are about, for an error.
func namesOf(ops []Op) string {
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

// mostCatchUp is how often a call asks for what its own answer can't tell any more.
const mostCatchUp = 3

// learnFrom lets variables know what a commit made of their entries; false: the answer
// came too late for that.
func (b *Board) learnFrom(a asking, page *wire.Page) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, fresh, err := b.take(a, page)
	if !b.opts.push && len(b.view.seen) > 0 { // there is something before it that is not known yet
		b.pollNow()
	}
	return fresh && err == nil || len(b.nodes) == 0
}

// removed notes that it was this Board that removed names: no answer tells who did.
func (b *Board) removed(gone []entry.Gone) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, g := range gone {
		n := b.nodes[g.Name]
		if n == nil {
			continue
		}
		b.alter(n, func(r *remote) {
			if r.entry.Version == g.Version && r.entry.Value.IsZero() {
				r.entry.From = b.from
			}
		})
	}
}

// Put stores a value under a name without a key, and gives the entry. An entry
// keeps its kind: a value of another is converted exactly, or refused with
// pantry.ErrWrongKind; an Op whose Kind is set changes it.
func (b *Board) Put(ctx context.Context, name string, v value.Value) (Entry, error) {
	if err := v.Check(); err != nil {
		return Entry{}, b.fail("put", name, err)
	}
	return b.operate(ctx, "put", name, value.Op{Verb: value.Put, Operand: v})
}

// Drop removes what is stored under the names, in one commit. Where nothing is
// stored under one of them, the error is pantry.ErrAbsent and nothing is removed.
func (b *Board) Drop(ctx context.Context, names ...string) error {
	ops := make([]Op, len(names))
	for i, name := range names {
		ops[i] = Op{Name: name, Op: value.Op{Verb: value.Drop}}
	}
	_, err := b.commit(ctx, "drop", ops)
	return err
}

// Forget removes what is stored under the names, one after the other, and leaves
// nothing of it in what the server keeps, the past included. Where nothing is stored
// under one of them, and nothing was, the error is pantry.ErrAbsent, and those after it
// are as they were.
func (b *Board) Forget(ctx context.Context, names ...string) error {
	for _, name := range names {
		if err := pantry.CheckName(name); err != nil {
			return b.fail("forget", name, err)
		}
		_, err := b.send(ctx, request{op: "forget", method: http.MethodDelete, path: entryPath(name), query: url.Values{"forget": {"true"}}})
		if err != nil {
			return b.fail("forget", name, err)
		}
		b.mu.Lock()
		if b.nodes[name] != nil {
			b.askForAll()
		}
		b.mu.Unlock()
	}
	return nil
}

// operate makes one operation on an entry, and gives the entry.
func (b *Board) operate(ctx context.Context, op, name string, o value.Op) (Entry, error) {
	done, err := b.commit(ctx, op, []Op{{Name: name, Op: o}})
	if err != nil {
		return Entry{}, err
	}
	if len(done.Entries) != 1 {
		return Entry{}, b.fail(op, name, unexpected(fmt.Errorf("it tells of %d entries, and one was written", len(done.Entries))))
	}
	return done.Entries[0], nil
}
