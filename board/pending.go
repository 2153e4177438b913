package board

import (
	"slices"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
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

	// Mine is the value that a Set of one entry would store. It is the zero Value for other changes.
	Mine value.Value
	// Theirs is what is stored instead, if Err is pantry.ErrConflict: its Value, and By and Updated say
	// who stored it when. It has no Value if the entry was removed.
	Theirs pantry.Entry
}

// Pending returns the queued changes and those that were refused, oldest first; none without
// Offline.
func (b *Board) Pending() []Pending {
	if b.outbox == nil {
		return nil
	}
	return b.outbox.list(b)
}

// Retry sends a change again that was refused, as the user's decision: a Set or a Clear then
// replaces what is stored now. It also takes over a change that was made with another link and
// certainly did not arrive. The error is pantry.ErrAbsent if there is no such change,
// pantry.ErrConflict if it may have arrived with another link, and those of a device's Set.
func (b *Board) Retry(id string) error {
	if b.outbox == nil {
		return b.conn.fail("retry", "", pantry.ErrAbsent)
	}
	return b.outbox.retry(b, id)
}

// Discard removes a change from the queue: one that was refused, or that is not to be sent any
// more. The error is pantry.ErrAbsent if there is no such ID, pantry.ErrBusy while the change is
// being sent, and those of a device's Set.
func (b *Board) Discard(id string) error {
	if b.outbox == nil {
		return b.conn.fail("discard", "", pantry.ErrAbsent)
	}
	return b.outbox.discard(b, id)
}

func (o *outbox) list(b *Board) []Pending {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := make([]Pending, len(o.items))
	for i, it := range o.items {
		p := Pending{ID: it.id(), Sent: it.sent, Other: !it.of(b), Err: it.err(b), Theirs: pantry.Entry(it.theirs)}
		for _, e := range it.edits {
			p.Ops = append(p.Ops, opOf(e))
		}
		if put := it.put(); put != nil {
			p.Mine = put.Op.Operand
		}
		out[i] = p
	}
	return out
}

// find returns the index of an item. mu must be held.
func (o *outbox) find(b *Board, op, id string) (i int, err error) {
	if i = slices.IndexFunc(o.items, func(it *item) bool { return it.id() == id }); i < 0 {
		err = b.conn.fail(op, id, pantry.ErrAbsent)
	}
	return i, err
}

func (o *outbox) discard(b *Board, id string) error {
	it, err := o.remove(b, id)
	if err == nil {
		o.show(it, true)
	}
	return err
}

func (o *outbox) remove(b *Board, id string) (*item, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	i, err := o.find(b, "discard", id)
	if err != nil {
		return nil, err
	}
	it := o.items[i]
	if it == o.out {
		return nil, b.conn.fail("discard", id, &Error{Index: -1, Code: "busy", Sentence: "the change is being sent; try again in a while", Err: pantry.ErrBusy})
	}
	if err := o.ns.Drop(it.name()); err != nil {
		return nil, b.conn.fail("discard", id, err)
	}
	o.items = slices.Delete(o.items, i, i+1)
	return it, nil
}

// retry makes a change wait again.
func (o *outbox) retry(b *Board, id string) error {
	was, now, err := o.renew(b, id)
	if err == nil && now != nil {
		o.show(was, true) // it can be that of another link
		o.show(now, true)
	}
	o.wake()
	return err
}

// renew replaces a change by one that waits, and returns both; nil means that it waits already.
func (o *outbox) renew(b *Board, id string) (was, now *item, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	i, err := o.find(b, "retry", id)
	if err != nil {
		return nil, nil, err
	}
	it := o.items[i]
	switch {
	case !it.of(b) && it.sent:
		return nil, nil, b.conn.fail("retry", id, &Error{Index: -1, Code: "conflict", Sentence: "the change may have arrived with the link that it was made with", Err: pantry.ErrConflict})
	case it.code == "" && it.of(b):
		return nil, nil, nil
	}
	again := *it
	again.link, again.code, again.says, again.sent, again.since, again.key, again.theirs = b.conn.link.id(), "", "", false, "", draw(), entry.Entry{}
	again.edits = slices.Clone(it.edits)
	if put := again.put(); put != nil && it.code != "" {
		put.Cond, put.Seen = entry.Cond{}, nil // the user has seen what it replaces
	}
	if err := o.save(&again); err != nil {
		return nil, nil, b.conn.fail("retry", id, err)
	}
	o.items[i] = &again
	return it, &again, nil
}
