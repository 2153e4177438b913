package board

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/url"
	"slices"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
)

const (
	// maxQuery is the maximum length of a query; a longer one requests everything that the app uses
	// instead of names.
	maxQuery = 8 << 10
	// longWait is how long a server is asked to wait for a change.
	longWait = 30 * time.Second
	// tryAgain is the time until a transport that failed is tried again.
	tryAgain = time.Minute
)

// A source is a transport of changes: a stream, a waiting request or a poll.
type source interface {
	name() string
	// follow receives changes until something else must be done. It reports whether the next source
	// is to be tried at once.
	follow(b *Board) (atOnce bool)
}

// ways chooses the next source. It is guarded by Board.mu.
type ways struct {
	streamAt time.Time // no stream before it
	waitAt   time.Time // no waiting request before it
	cut      int       // streams in a row that ended soon
	// How often in a row a transport did not work at all.
	noStreams, noWaits int
	pause              time.Duration
	news               time.Time // when something changed last
}

// start starts the requests once there is something to request.
func (b *Board) start() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.polling || b.ctx.Err() != nil {
		return
	}
	b.polling = true
	b.done.Go(b.run)
}

// askNow sends the next question at once.
func (b *Board) askNow() {
	select {
	case b.kick <- struct{}{}:
	default:
	}
}

// run requests changes by one source or another until the board is closed. After a source fails, a
// poll finds out whether the server is there.
func (b *Board) run() {
	atOnce := false // the last request was not followed by a pause
	for b.ctx.Err() == nil {
		if !b.mayAsk() {
			continue
		}
		if atOnce && !b.mayAskAtOnce() {
			select {
			case <-time.After(time.Second):
			case <-b.ctx.Done():
			}
			continue
		}
		select { // this question answers every request for one so far
		case <-b.kick:
		default:
		}
		from := b.next(time.Now())
		if atOnce = from.follow(b); atOnce {
			continue
		}
		pause := b.pauseAfter(time.Now())
		select {
		case <-time.After(pause):
		case <-b.kick:
			atOnce = true
			b.askNow() // it can come before the server's Retry-After
			b.mu.Lock()
			b.ways.pause = 0
			b.mu.Unlock()
		case <-b.ctx.Done():
		}
	}
}

// A client sends 60 requests one after the other, and then one a second, for any cause.
const (
	mostAtOnce = 60
	perSecond  = 1
)

// mayAskAtOnce reports whether another request can follow at once. If not, it reports, once, that the
// answers make the client send requests again and again. Only run uses it.
func (b *Board) mayAskAtOnce() bool {
	if b.atOnce.Tokens() >= mostAtOnce {
		b.stormed = false
	}
	if b.atOnce.Allow() {
		return true
	}
	if !b.stormed {
		b.stormed = true
		b.report.problem("", &Error{
			Index: -1, Code: "unexpected", Op: "poll", Board: b.conn.link.board, Err: ErrUnreachable,
			Sentence: "the answers contradict each other, or the way to the server loses what is requested, as when two servers with different data share one address; the board is now asked once a second",
		})
	}
	return false
}

// mayAsk waits while the board is paused, or for Retry-After. It returns false if something changed
// meanwhile.
func (b *Board) mayAsk() bool {
	b.mu.Lock()
	paused := b.paused
	b.mu.Unlock()
	later := b.conn.delayed()
	switch {
	case paused:
		select {
		case <-b.kick:
		case <-b.ctx.Done():
		}
		return false
	case later > 0:
		select {
		case <-time.After(later):
		case <-b.ctx.Done():
			return false
		}
	}
	return true
}

// next returns the best source now.
func (b *Board) next(now time.Time) source {
	b.mu.Lock()
	defer b.mu.Unlock()
	w := &b.ways
	switch {
	case b.opts.noPush, b.view.nothing(), b.status.Err != nil: // or find out whether it is there again
	case !now.Before(w.streamAt):
		return byStream{}
	case !now.Before(w.waitAt) && b.view.mark != (mark.Mark{}):
		return byWait{}
	}
	return byPoll{}
}

// pauseAfter returns the pause before the next question. It grows while nothing changes, and
// varies, so that many phones don't ask in step.
func (b *Board) pauseAfter(now time.Time) time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	w := &b.ways
	const busy = 15 // quick pauses after the last change
	if w.pause == 0 || now.Sub(w.news) < busy*b.opts.fast {
		w.pause = b.opts.fast
	} else {
		w.pause = min(w.pause*3/2, b.opts.slow)
	}
	return w.pause*9/10 + rand.N(w.pause/5+1)
}

// question returns the query, and what it is sent with: the known mark, and what is new since. mu
// must not be held.
func (b *Board) question() (query url.Values, a asking, tag string, nothing bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	query = url.Values{}
	a = b.view.ask()
	if b.view.nothing() {
		return url.Values{"names": {"true"}, "limit": {"1"}}, a, "", true // is the server there?
	}
	everything := func() url.Values {
		if len(b.opts.only) > 0 {
			return url.Values{"prefix": slices.Clone(b.opts.only)}
		}
		return url.Values{}
	}
	if b.view.covers("") {
		query = everything()
	} else {
		for name := range b.view.names {
			query.Add("name", name)
		}
		for prefix := range b.view.prefixes {
			query.Add("prefix", prefix)
		}
		slices.Sort(query["name"])
		slices.Sort(query["prefix"])
		if len(query.Encode()) > maxQuery {
			query = everything()
		}
	}
	for _, m := range a.since {
		query.Add("since", m.String())
	}
	if len(a.since) == 1 && b.asked != "" { // if it is of another question, it matches nothing
		tag = a.since[0].EntityTag(b.asked)
	}
	return query, a, tag, false
}

// byPoll sends requests that are answered at once.
type byPoll struct{}

func (byPoll) name() string { return "poll" }

func (p byPoll) follow(b *Board) (atOnce bool) {
	_, _, err := b.pollOnce(b.ctx, p, 0)
	if err != nil {
		return false
	}
	_, more := b.next(time.Now()).(byPoll)
	return !more // the server is there, and a better source can work
}

// byWait sends requests that are answered after a change.
type byWait struct{}

func (byWait) name() string { return "wait" }

func (w byWait) follow(b *Board) (atOnce bool) {
	ctx, done := b.untilKicked()
	defer done()
	from := time.Now()
	news, early, err := b.pollOnce(ctx, w, longWait)
	kicked := ctx.Err() != nil
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case kicked:
		return true
	case err != nil, !news && (early || time.Since(from) < longWait/2): // something on the way does not let it wait
		b.ways.waitAt = b.transportFails(&b.ways.noWaits, "requests that wait are cut on this network, so that changes arrive by polls")
		if err != nil {
			b.askNow() // is the server there?
		}
		return false
	}
	b.ways.noWaits = 0
	b.status.Waited++
	return true
}

// transportFails records that a transport does not work on this network, and returns when to try it
// again: later with each failure. The second failure in a row is reported, if the server is there. mu
// must be held.
func (b *Board) transportFails(failures *int, sentence string) (again time.Time) {
	*failures++
	b.status.Trouble = sentence
	if *failures == 2 && b.status.Err == nil {
		b.report.problem("", &Error{Index: -1, Code: "transport", Op: "watch", Board: b.conn.link.board, Sentence: sentence, Err: ErrUnreachable})
	}
	return time.Now().Add(min(tryAgain<<(*failures-1), 10*tryAgain))
}

// untilKicked returns a context that ends when another question is requested. That request stays
// pending. done must be called.
func (b *Board) untilKicked() (ctx context.Context, done func()) {
	ctx, cancel := context.WithCancel(b.ctx)
	over := make(chan struct{})
	go func() {
		defer close(over)
		select {
		case <-b.kick:
			b.askNow() // it is handled next
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() {
		cancel()
		<-over
	}
}

// pollOnce requests everything new, in as many pages as needed, and reports whether there was
// anything. With wait, the server can take that long until something changes; early reports that it
// did not wait, because it could not know the marks of the question.
func (b *Board) pollOnce(ctx context.Context, from source, wait time.Duration) (news, early bool, err error) {
	query, a, tag, nothing := b.question()
	first := url.Values(nil)
	if wait > 0 {
		first = url.Values{"wait": {strconv.Itoa(int(wait.Seconds()))}}
	}
	ask := func(more url.Values, tag string) (listPage, error) {
		q := url.Values{}
		for _, values := range []url.Values{query, more} {
			for name, v := range values {
				q[name] = v
			}
		}
		return b.list(ctx, request{op: "poll", query: q, once: true, silence: wait}, tag)
	}
	got, err := ask(first, tag)
	page := got.Page
	for next := page; err == nil && !nothing && next != nil && next.Next != ""; {
		var more listPage
		if more, err = ask(url.Values{"after": {next.Next}}, ""); err == nil {
			next = more.Page
			if next.Whole != page.Whole {
				err = unexpected(errors.New("its pages don't go together"))
			}
			page.Entries = append(page.Entries, next.Entries...)
			page.Gone = append(page.Gone, next.Gone...)
		}
	}
	if ctx.Err() != nil {
		return false, false, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if wait == 0 {
		b.status.Polls++
	}
	switch {
	case err != nil || nothing:
	case page == nil:
		if wait == 0 {
			b.status.NotModified++
		}
		if now, _, bad := mark.InTag(got.tag); bad == nil {
			b.view.unchanged(a, now)
		}
	default:
		var changed []string
		var fresh bool
		if changed, fresh, err = b.take(a, page); !fresh {
			b.askNow()
		}
		if err != nil {
			err = b.fail("poll", "", unexpected(err))
			break
		}
		b.report.nearNames(page.Findings)
		news = len(changed) > 0
		early = page.Whole
		_, b.asked, _ = mark.InTag(got.tag)
		b.status.Version = page.Version
	}
	if news {
		b.ways.news = time.Now()
	}
	if err == nil || wait == 0 { // a wait that fails says nothing about the server: a poll follows
		b.answered(from.name(), err)
	}
	return news, early, err
}

// answered records how an attempt to reach the server ended, and from which source changes arrive
// now; "" means that the attempt was a write, which does not show it. mu must be held.
func (b *Board) answered(way string, err error) {
	before := b.status.Err
	b.status.Err = err
	if err != nil {
		b.status.Failed++
		b.tellOutage(err)
	} else {
		b.outage = ""
		b.status.Answered = time.Now()
		b.asOf = b.status.Answered
		if way != "" {
			b.status.Way = way
		}
		select {
		case <-b.ready:
		default:
			close(b.ready)
		}
	}
	if codeOf(before) != codeOf(err) {
		for _, n := range b.nodes {
			b.alter(n, func(r *remote) { r.away = err })
		}
	}
	for w := range b.watchers {
		w.tell("") // somebody can wait for the first answer
	}
	if err == nil && b.outbox != nil {
		b.outbox.wake()
	}
	if err == nil && !b.declared && len(b.opts.declare) > 0 && b.ctx.Err() == nil {
		b.declared = true
		b.done.Go(b.declareNow)
	}
}

// tellOutage reports that the server can't be reached, once an outage; mu must be held.
func (b *Board) tellOutage(err error) {
	if code := codeOf(err); b.outage == code {
		return
	} else {
		b.outage = code
	}
	if b.ctx.Err() == nil {
		b.done.Go(func() { b.report.problem("", err) }) // it can call the board
	}
}

// declareNow declares the keys of Declare and reports the findings.
func (b *Board) declareNow() {
	findings, err := b.DeclareKeys(b.ctx, b.opts.declare...)
	switch {
	case b.ctx.Err() != nil, errors.Is(err, ErrForbidden): // the link only allows reading
		return
	case errors.Is(err, ErrUnreachable):
		b.mu.Lock()
		b.declared = false // the next answer makes it try again
		b.mu.Unlock()
		return
	case err != nil:
		b.report.problem("", err)
	}
	for _, f := range findings {
		b.report.problem(f.Name, &FindingError{f})
	}
}
