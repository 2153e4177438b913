package board

import (
	"errors"
	"math/rand/v2"
	"net/url"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
)

// maxQuery is the longest query that is sent; past it the whole board is
// asked for instead of the names.
const maxQuery = 8 << 10

// start begins to poll, once there is something to ask for.
func (b *Board) start() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.polling || b.ctx.Err() != nil {
		return
	}
	b.polling = true
	b.done.Go(b.poll)
}

// pollNow has the next poll sent at once.
func (b *Board) pollNow() {
	select {
	case b.kick <- struct{}{}:
	default:
	}
}

// poll asks again and again until the board is closed. The pause grows while
// nothing changes, and varies, so that many phones don't ask in step.
func (b *Board) poll() {
	pause := b.opts.fast
	for b.ctx.Err() == nil {
		select { // this poll answers every call for one so far
		case <-b.kick:
		default:
		}
		b.mu.Lock()
		paused := b.paused
		b.mu.Unlock()
		var wait time.Duration
		if !paused {
			if b.mayStream() && b.stream() {
				b.mu.Lock()
				b.streamAt = time.Time{}
				b.mu.Unlock()
				continue
			}
			news, err := b.pollOnce()
			if news {
				pause = b.opts.fast
			} else {
				pause = min(pause*3/2, b.opts.slow)
			}
			wait = pause*9/10 + rand.N(pause/5+1)
			var e *Error
			if errors.As(err, &e) {
				wait = max(wait, e.RetryAfter)
			}
		}
		var tick <-chan time.Time
		if !paused {
			tick = time.After(wait)
		}
		select {
		case <-tick:
		case <-b.kick:
			pause = b.opts.fast
		case <-b.ctx.Done():
		}
	}
}

// question gives what is asked for, as a query, and what it is asked with; what with
// the mark that is known. mu must not be held.
func (b *Board) question() (query url.Values, a asking, tag string, nothing bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	query = url.Values{}
	if !b.view.all {
		for name := range b.nodes {
			query.Add("name", name)
		}
		slices.Sort(query["name"])
	}
	a = b.view.ask()
	if !b.view.all && len(b.nodes) == 0 {
		return url.Values{"names": {"true"}, "limit": {"1"}}, a, "", true // is the server there?
	}
	if len(query.Encode()) > maxQuery {
		query = url.Values{}
	}
	for _, m := range a.since {
		query.Add("since", m.String())
	}
	if len(a.since) == 1 && b.asked != "" { // where it is of another question, it matches nothing
		tag = a.since[0].EntityTag(b.asked)
	}
	return query, a, tag, false
}

// pollOnce asks for everything that is new, in as many pages as that takes,
// and says whether anything was.
func (b *Board) pollOnce() (news bool, err error) {
	query, a, tag, nothing := b.question()
	first, err := b.list(b.ctx, "poll", query, tag)
	page := first.Page
	for next := page; err == nil && !nothing && next != nil && next.Next != ""; {
		query.Set("after", next.Next)
		var more listPage
		if more, err = b.list(b.ctx, "poll", query, ""); err == nil {
			next = more.Page
			if next.Whole != page.Whole {
				err = unexpected(errors.New("its pages don't go together"))
			}
			page.Entries = append(page.Entries, next.Entries...)
			page.Gone = append(page.Gone, next.Gone...)
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.ctx.Err() != nil {
		return false, nil
	}
	b.status.Polls++
	switch {
	case err != nil || nothing:
	case page == nil:
		b.status.NotModified++
		if now, _, bad := mark.InTag(first.tag); bad == nil {
			b.view.unchanged(a, now)
		}
	default:
		var changed []string
		var fresh bool
		if changed, fresh, err = b.take(a, page); !fresh {
			b.pollNow()
		}
		if err != nil {
			err = b.fail("poll", "", unexpected(err))
			break
		}
		news = len(changed) > 0
		_, b.asked, _ = mark.InTag(first.tag)
		b.status.Version = page.Version
	}
	b.answered(err)
	return news, err
}

// answered notes how a question ended; mu must be held.
func (b *Board) answered(err error) {
	b.status.Err = err
	for _, n := range b.nodes {
		b.alter(n, func(r *remote) { r.stale = err != nil && r.known })
	}
	if err != nil {
		b.status.Failed++
		return
	}
	b.status.Answered = time.Now()
	for w := range b.watchers {
		w.tell("") // it may wait for the first answer
	}
	select {
	case <-b.ready:
	default:
		close(b.ready)
	}
}
