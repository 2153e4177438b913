package board

import (
	"context"
	"errors"
	"net/url"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
)

// byPoll sends requests that are answered at once.
type byPoll struct{}

func (byPoll) name() string { return "poll" }

func (s byPoll) follow(p *poller) (atOnce bool) {
	_, _, err := p.pollOnce(p.ctx, s, 0)
	if err != nil {
		return false
	}
	_, more := p.next(time.Now()).(byPoll)
	return !more // the server is there, and a better source can work
}

// byWait sends requests that are answered after a change.
type byWait struct{}

func (byWait) name() string { return "wait" }

func (s byWait) follow(p *poller) (atOnce bool) {
	ctx, done := p.untilKicked()
	defer done()
	from := time.Now()
	news, early, err := p.pollOnce(ctx, s, longWait)
	kicked := ctx.Err() != nil
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case kicked || p.paused:
		return true
	case err != nil, !news && (early || time.Since(from) < longWait/2): // something on the way does not let it wait
		p.transports.waitAt = p.transportFails(&p.transports.noWaits, "requests that wait are cut on this network, so that changes arrive by polls")
		if err != nil {
			p.askNow() // is the server there?
		}
		return false
	}
	p.transports.noWaits = 0
	p.status.Waited++
	return true
}

// ask requests what a poll is about, with all its pages in one.
func (p *poller) ask(ctx context.Context, asked question, wait time.Duration) (listPage, error) {
	query, tag := p.query(asked)
	first := url.Values(nil)
	if wait > 0 {
		first = url.Values{"wait": {strconv.Itoa(int(wait.Seconds()))}}
	}
	one := func(more url.Values, tag string) (listPage, error) {
		q := url.Values{}
		for _, values := range []url.Values{query, more} {
			for name, v := range values {
				q[name] = v
			}
		}
		return p.conn.list(ctx, request{op: "poll", query: q, once: true, silence: wait}, tag)
	}
	got, err := one(first, tag)
	for next := got.Page; err == nil && !asked.nothing() && next != nil && next.Next != ""; {
		var more listPage
		if more, err = one(url.Values{"after": {next.Next}}, ""); err == nil {
			next = more.Page
			if next.Whole != got.Page.Whole {
				err = unexpected(errors.New("its pages don't go together"))
			}
			got.Page.Entries = append(got.Page.Entries, next.Entries...)
			got.Page.Gone = append(got.Page.Gone, next.Gone...)
		}
	}
	return got, err
}

// pollOnce requests everything new, in as many pages as needed, and reports whether there was
// anything. With wait, the server can take that long until something changes; early reports that it
// did not wait, because it could not know the marks of the question.
func (p *poller) pollOnce(ctx context.Context, from source, wait time.Duration) (news, early bool, err error) {
	asked := p.view.question()
	nothing := asked.nothing()
	got, err := p.ask(ctx, asked, wait)
	page := got.Page
	p.mu.Lock()
	defer p.mu.Unlock()
	if ctx.Err() != nil || p.paused {
		return false, false, err
	}
	if wait == 0 {
		p.status.Polls++
	}
	switch {
	case err != nil || nothing:
	case page == nil:
		if wait == 0 {
			p.status.NotModified++
		}
		if now, _, bad := mark.InTag(got.tag); bad == nil {
			p.view.unchanged(asked.asking, now)
		}
	default:
		var used taken
		if used, err = p.view.take(asked.asking, page); !used.fresh {
			p.askNow()
		}
		if err != nil {
			err = p.conn.fail("poll", "", unexpected(err))
			break
		}
		p.report.nearNames(page.Findings)
		news = len(used.changed) > 0
		early = page.Whole
		_, p.asked, _ = mark.InTag(got.tag)
		p.status.Version = page.Version
	}
	if news {
		p.transports.news = time.Now()
	}
	if err == nil || wait == 0 { // a wait that fails says nothing about the server: a poll follows
		p.answered(from.name(), err)
	}
	return news, early, err
}
