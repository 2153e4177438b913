package board

import (
	"errors"
	"math/rand/v2"
	"net/url"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/wire"
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

// pollOnce asks for everything that is new, in as many pages as that takes,
// and says whether anything was.
func (b *Board) pollOnce() (news bool, err error) {
	b.mu.Lock()
	names := make([]string, 0, len(b.nodes))
	if !b.all {
		for name := range b.nodes {
			names = append(names, name)
		}
	}
	all, mark, tag := b.all, b.mark, b.tag
	b.mu.Unlock()
	slices.Sort(names)
	query := url.Values{"name": names}
	if !all && len(names) == 0 {
		query = url.Values{"names": {"true"}, "limit": {"1"}} // is the server there?
		mark, tag = "", ""
	}
	if len(query.Encode()) > maxQuery {
		query = url.Values{}
	}
	if mark != "" {
		query.Set("since", mark)
	}
	page, err := b.list(b.ctx, "poll", query, tag)
	if err == nil && page.Page != nil && !all && len(names) == 0 {
		page.Entries, page.Next, page.Mark, page.tag = nil, "", "", ""
	}
	for next := page; err == nil && next.Page != nil && next.Next != ""; {
		query.Set("after", next.Next)
		if next, err = b.list(b.ctx, "poll", query, ""); err == nil {
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
	b.status.Err = err
	if err != nil {
		b.status.Failed++
		for _, n := range b.nodes {
			b.alter(n, func(r *remote) { r.stale = r.known })
		}
		return false, err
	}
	b.status.Answered = time.Now()
	if page.Page == nil {
		b.status.NotModified++
		for _, n := range b.nodes {
			b.alter(n, func(r *remote) { r.stale = false })
		}
	} else {
		news = b.learnPage(page.Page, mark, names)
		// A name that came in meanwhile was not asked for.
		if b.all == all && (all || len(b.nodes) == len(names) || len(query["name"]) == 0) {
			b.mark, b.tag = page.Mark, page.tag
		}
	}
	b.allKnown = b.all && all
	for w := range b.watchers {
		w.tell("") // it may wait for the first answer
	}
	select {
	case <-b.ready:
	default:
		close(b.ready)
	}
	return news, nil
}

// learnPage takes in an answer to what was asked for since a mark; mu must be
// held. Where it is the whole although there was a mark, versions have another meaning than
// before, so that an older one may replace a newer.
func (b *Board) learnPage(page *wire.Page, since string, asked []string) (news bool) {
	anew := page.Whole && since != ""
	told := map[string]bool{}
	for _, e := range page.Entries {
		told[e.Name] = true
		b.learnLocked(e, anew)
	}
	for _, g := range page.Gone {
		told[g.Name] = true
		b.learnLocked(Entry{Name: g.Name, Version: g.Version}, anew)
	}
	if page.Whole { // what it doesn't tell of is absent
		for name := range b.nodes {
			if !told[name] && (b.all || slices.Contains(asked, name)) {
				b.learnLocked(Entry{Name: name, Version: page.Version}, anew)
			}
		}
	}
	for _, n := range b.nodes {
		b.alter(n, func(r *remote) { r.stale = false })
	}
	b.status.Version = page.Version
	return len(told) > 0
}
