package board

import (
	"errors"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/wire"
)

// run sends the waiting changes, in order, until the last Board is closed.
func (o *outbox) run() {
	const least, most = time.Second, 30 * time.Second
	pause, anyway := least, false
	for o.ctx.Err() == nil {
		// While the server is out of reach, new changes are merged and not sent. The polls find out
		// when it is back; if there are no polls, this does.
		it, b := o.first()
		if it != nil && (anyway || !b.poller.isAway()) {
			if err := o.send(b, it); err == nil {
				pause = least
				continue
			}
			if b.ctx.Err() != nil { // another Board can send it
				continue
			}
			pause = min(2*pause, most)
		}
		anyway = false
		var later <-chan time.Time
		if it != nil {
			later = time.After(pause)
		}
		select {
		case <-o.kick:
		case p := <-o.found:
			o.report(p.Name, p.Err)
		case <-later:
			anyway = true
		case <-o.ctx.Done():
		}
	}
}

// first returns the oldest change that waits, and a Board with its link; nil means none, or that
// nothing may be sent yet.
func (o *outbox) first() (*item, *Board) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.silent {
		return nil, nil
	}
	for _, it := range o.items {
		if it.code != "" {
			continue
		}
		if slices.ContainsFunc(o.making, func(w *write) bool {
			return slices.ContainsFunc(w.names(), it.about)
		}) {
			return nil, nil // end wakes the outbox
		}
		for _, b := range o.boards {
			if it.of(b) && b.ctx.Err() == nil {
				return it, b
			}
		}
	}
	return nil, nil
}

// send sends a change through a Board. An error means that it still waits.
func (o *outbox) send(b *Board, it *item) error {
	checked, err := o.check(b, it)
	if err != nil {
		if unsure(err) || b.ctx.Err() != nil {
			return err
		}
		o.refuse(b, it, err)
		return nil
	}
	mark, before := b.view.position().String(), b.view.statesOf(it.names())
	w, first, err := o.takeOut(it, checked, mark)
	if w == nil {
		return err
	}
	defer func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.out = nil
	}()
	page, err := b.sendWrite(b.ctx, w)
	switch {
	case err == nil:
		return o.sent(it, page, before)
	case b.ctx.Err() != nil, unsure(err):
		if first && notDone(err) { // it can still be merged with others
			o.mu.Lock()
			it.sent, it.since = false, ""
			o.mu.Unlock()
		}
		return err
	case codeOf(err) == "unauthorized": // it says nothing about the change
		b.poller.outageIs(err)
		return err
	case it.op == "seed" && errors.Is(err, pantry.ErrConflict), it.op == "clear" && errors.Is(err, pantry.ErrAbsent): // as it should be
		return o.sent(it, nil, before)
	case it.checks(b) && errors.Is(err, pantry.ErrConflict): // it was not done: check it again
		o.mu.Lock()
		it.sent, it.since, it.key, it.edits[0].Cond = false, "", draw(), entry.Cond{}
		o.mu.Unlock()
		return nil
	}
	o.refuse(b, it, err)
	return nil
}

// takeOut marks a change as the one that is being sent, stores that, and returns what to send. It returns
// nil if the change was merged or discarded meanwhile, or can't be stored. first reports that it was not
// sent before.
func (o *outbox) takeOut(it *item, checked *entry.Cond, mark string) (w *write, first bool, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !slices.Contains(o.items, it) {
		return nil, false, nil
	}
	if first = !it.sent; first {
		if checked != nil {
			it.edits[0].Cond = *checked
		}
		it.sent, it.since = true, mark
		if err := o.save(it); err != nil { // then it must not be sent
			it.sent = false
			return nil, first, err
		}
	}
	o.out = it
	sent := it.write
	sent.edits = slices.Clone(it.edits)
	if first {
		sent.since = ""
	}
	return &sent, first, nil
}

// check applies an operation on a key with a Check to the stored value, if it has not been sent yet,
// and returns the condition under which the result passes. nil means no condition. The error is
// ErrInvalid, or that of asking the server.
func (o *outbox) check(b *Board, it *item) (*entry.Cond, error) {
	o.mu.Lock()
	edits, again := slices.Clone(it.edits), it.sent
	o.mu.Unlock()
	if again || !it.checks(b) {
		return nil, nil
	}
	e, _, err := b.fetch(b.ctx, edits[0].Name)
	if err != nil {
		return nil, err
	}
	now := e.Value
	for _, edit := range edits {
		if now, _, err = edit.Op.Apply(now); err != nil {
			return nil, nil // the server refuses it
		}
	}
	if err := b.passes(e.Name, now); err != nil {
		return nil, b.conn.fail(it.op, e.Name, err)
	}
	cond := edits[0].If(versionIn(e), e.Updated).Cond
	return &cond, nil
}

// sent removes a stored change.
func (o *outbox) sent(it *item, page *wire.Page, before map[string]*remote) error {
	shown := map[*Board]map[string]entry.Entry{}
	for _, b := range o.users(it) {
		shown[b] = b.view.shown(it.names())
	}
	o.mu.Lock()
	if err := o.ns.Drop(it.name()); err != nil && !errors.Is(err, pantry.ErrAbsent) {
		o.mu.Unlock()
		return err // sent again, it counts once
	}
	o.items = slices.DeleteFunc(o.items, func(other *item) bool { return other == it })
	if page != nil {
		o.rebaseOn(it, page, before, shown)
	}
	o.mu.Unlock()
	o.show(it, false)
	return nil
}

// refuse keeps a refused change and reports it.
func (o *outbox) refuse(b *Board, it *item, err error) {
	o.mu.Lock()
	it.code, it.says = codeOf(err), sentenceOf(err)
	var e *Error
	if errors.As(err, &e) && e.entry != nil {
		it.theirs = *e.entry
	}
	bad := o.save(it) // if it fails, the change is refused again at the next launch
	err = it.err(b)
	o.out = nil // from now on it can be discarded and retried
	o.mu.Unlock()
	o.show(it, true)
	for _, user := range o.users(it) {
		user.report.problem(namesOf(it.edits), errors.Join(err, bad))
	}
}
