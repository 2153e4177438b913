package board

import (
	"slices"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
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

func (q *queue) list() []Pending {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := make([]Pending, len(q.items))
	for i, it := range q.items {
		out[i] = Pending{ID: it.id(), Ops: slices.Clone(it.edits), Sent: it.sent, Other: q.others(it), Err: it.err(q.b)}
	}
	return out
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
