package board

import (
	"errors"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

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
	mark := q.b.view.mark.String()
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
		it.sent, it.link, it.since, w.since = true, q.link, mark, ""
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
		// It was stored because its base had not changed, or because the app said so. Later
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
