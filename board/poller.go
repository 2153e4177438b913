package board

import (
	"context"
	"math/rand/v2"
	"net/url"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
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

// A poller requests what changes on a board: by a stream, by requests that wait, or by polls. It is safe
// for concurrent use. Its methods can use the view while they hold mu.
type poller struct {
	conn   *connection
	view   *view
	report *reporter
	opts   *options
	ctx    context.Context // ends with Close
	tasks  *tasks
	answer func()        // called after each answer of the server, with mu held; it must not block
	kick   chan struct{} // requests a poll now

	atOnce  *rate.Limiter // of requests without a pause between them; only run uses it
	stormed bool          // atOnce was used up, which was reported; only run uses it

	mu         sync.Mutex // guards the following fields
	running    bool
	paused     bool
	status     Status
	outage     string // the code that was reported; "" means none
	asked      string // identifies the newest question for the server
	transports transports
}

func newPoller(ctx context.Context, c *connection, r *reporter, o *options) *poller {
	p := &poller{ctx: ctx, conn: c, report: r, opts: o, tasks: &tasks{}, kick: make(chan struct{}, 1), atOnce: rate.NewLimiter(perSecond, mostAtOnce)}
	p.view = newView(p.askNow)
	return p
}

// A source is a transport of changes: a stream, a waiting request or a poll.
type source interface {
	name() string
	// follow receives changes until something else must be done. It reports whether the next source
	// is to be tried at once.
	follow(p *poller) (atOnce bool)
}

// transports has what the choice of the next source depends on. It is guarded by poller.mu.
type transports struct {
	streamAt time.Time // no stream before it
	waitAt   time.Time // no waiting request before it
	cut      int       // streams in a row that ended soon
	// How often in a row a transport did not work at all.
	noStreams, noWaits int
	pause              time.Duration
	news               time.Time // when something changed last
}

// start starts the requests once there is something to request.
func (p *poller) start() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.running {
		p.running = p.tasks.start(p.run)
	}
}

// pause stops the requests, or starts them again at once.
func (p *poller) pause(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.paused = on
	p.askNow()
}

// now returns the current Status.
func (p *poller) now() Status {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.status
}

// isAway reports whether the newest attempt did not reach the server.
func (p *poller) isAway() bool { return unsure(p.now().Err) }

// askNow sends the next question at once.
func (p *poller) askNow() {
	select {
	case p.kick <- struct{}{}:
	default:
	}
}

// run requests changes by one source or another until the board is closed. After a source fails, a
// poll finds out whether the server is there.
func (p *poller) run() {
	atOnce := false // the last request was not followed by a pause
	for p.ctx.Err() == nil {
		if !p.mayAsk() {
			continue
		}
		if atOnce && !p.mayAskAtOnce() {
			select {
			case <-time.After(time.Second):
			case <-p.ctx.Done():
			}
			continue
		}
		select { // this question answers every request for one so far
		case <-p.kick:
		default:
		}
		from := p.next(time.Now())
		if atOnce = from.follow(p); atOnce {
			continue
		}
		pause := p.pauseAfter(time.Now())
		select {
		case <-time.After(pause):
		case <-p.kick:
			atOnce = true
			p.askNow() // it can come before the server's Retry-After
			p.mu.Lock()
			p.transports.pause = 0
			p.mu.Unlock()
		case <-p.ctx.Done():
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
func (p *poller) mayAskAtOnce() bool {
	if p.atOnce.Tokens() >= mostAtOnce {
		p.stormed = false
	}
	if p.atOnce.Allow() {
		return true
	}
	if !p.stormed {
		p.stormed = true
		p.report.problem("", &Error{
			Index: -1, Code: "unexpected", Op: "poll", Board: p.conn.link.board, Err: ErrUnreachable,
			Sentence: "the answers contradict each other, or the way to the server loses what is requested, as when two servers with different data share one address; the board is now asked once a second",
		})
	}
	return false
}

// mayAsk waits while the board is paused, or for Retry-After. It returns false if something changed
// meanwhile.
func (p *poller) mayAsk() bool {
	p.mu.Lock()
	paused := p.paused
	p.mu.Unlock()
	later := p.conn.delayed()
	switch {
	case paused:
		select {
		case <-p.kick:
		case <-p.ctx.Done():
		}
		return false
	case later > 0:
		select {
		case <-time.After(later):
		case <-p.ctx.Done():
			return false
		}
	}
	return true
}

// next returns the best source now.
func (p *poller) next(now time.Time) source {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := &p.transports
	switch {
	case p.opts.noPush, p.view.idle(), p.status.Err != nil: // or find out whether it is there again
	case !now.Before(t.streamAt):
		return byStream{}
	case !now.Before(t.waitAt) && p.view.position() != (mark.Mark{}):
		return byWait{}
	}
	return byPoll{}
}

// pauseAfter returns the pause before the next question. It grows while nothing changes, and
// varies, so that many phones don't ask in step.
func (p *poller) pauseAfter(now time.Time) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := &p.transports
	const busy = 15 // quick pauses after the last change
	if t.pause == 0 || now.Sub(t.news) < busy*p.opts.fast {
		t.pause = p.opts.fast
	} else {
		t.pause = min(t.pause*3/2, p.opts.slow)
	}
	return t.pause*9/10 + rand.N(t.pause/5+1)
}

// query returns the query of a question, and the tag of the answer that would bring nothing new.
func (p *poller) query(q question) (query url.Values, tag string) {
	query = url.Values{}
	if q.nothing() {
		return url.Values{"names": {"true"}, "limit": {"1"}}, "" // is the server there?
	}
	set := func(names, prefixes []string) {
		for key, values := range map[string][]string{"name": names, "prefix": prefixes} {
			if len(values) > 0 {
				query[key] = slices.Clone(values)
			}
		}
	}
	if slices.Contains(q.prefixes, "") {
		set(nil, p.opts.only)
	} else if set(q.names, q.prefixes); len(query.Encode()) > maxQuery {
		query = url.Values{}
		set(nil, p.opts.only)
	}
	for _, m := range q.since {
		query.Add("since", m.String())
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(q.since) == 1 && p.asked != "" { // if it is of another question, it matches nothing
		tag = q.since[0].EntityTag(p.asked)
	}
	return query, tag
}

// transportFails records that a transport does not work on this network, and returns when to try it
// again: later with each failure. The second failure in a row is reported, if the server is there. mu
// must be held.
func (p *poller) transportFails(failures *int, sentence string) (again time.Time) {
	*failures++
	p.status.Trouble = sentence
	if *failures == 2 && p.status.Err == nil {
		p.report.problem("", &Error{Index: -1, Code: "transport", Op: "watch", Board: p.conn.link.board, Sentence: sentence, Err: ErrUnreachable})
	}
	return time.Now().Add(min(tryAgain<<(*failures-1), 10*tryAgain))
}

// untilKicked returns a context that ends when another question is requested. That request stays
// pending. done must be called.
func (p *poller) untilKicked() (ctx context.Context, done func()) {
	ctx, cancel := context.WithCancel(p.ctx)
	over := make(chan struct{})
	go func() {
		defer close(over)
		select {
		case <-p.kick:
			p.askNow() // it is handled next
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() {
		cancel()
		<-over
	}
}

// answered records how an attempt to reach the server ended, and from which source changes arrive
// now; "" means that the attempt was a write, which does not show it. mu must be held.
func (p *poller) answered(way string, err error) {
	p.status.Err = err
	p.view.attempted(err)
	if err != nil {
		p.status.Failed++
		p.reportOutage(err)
		return
	}
	p.outage = ""
	p.status.Answered = time.Now()
	if way != "" {
		p.status.Way = way
	}
	p.answer()
}

// wrote records whether a write reached the server. ctx is the caller's.
func (p *poller) wrote(ctx context.Context, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err == nil {
		p.status.Answered = time.Now()
		p.view.heard()
	}
	switch {
	case p.ctx.Err() != nil, err != nil && ctx.Err() != nil: // it is the app that gave up
	case err == nil, !unsure(err) && codeOf(err) != "unexpected":
		if p.status.Err != nil && (err == nil || unsure(p.status.Err)) {
			p.answered("", nil)
		}
	default:
		p.answered("", p.conn.fail("commit", "", err))
		p.askNow() // and find out whether the server is there
	}
}

// outageIs reports that the server can't be reached, once an outage.
func (p *poller) outageIs(err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.reportOutage(err)
}

// reportOutage is outageIs; mu must be held.
func (p *poller) reportOutage(err error) {
	code := codeOf(err)
	if p.outage == code {
		return
	}
	if p.outage = code; p.ctx.Err() == nil {
		p.report.problem("", err)
	}
}

// show updates the view with the result of a write. If the view has changed since the request, the
// answer can't be used. But what is stored must be shown when the call returns, so it is requested.
func (p *poller) show(ctx context.Context, a asking, page *wire.Page) {
	for try := 0; try < mostCatchUp && !p.learn(a, page); try++ {
		if _, _, err := p.pollOnce(ctx, byPoll{}, 0); err != nil {
			break // the polls go on
		}
		if p.view.position().Version >= page.Version {
			break
		}
	}
	p.view.removed(page.Gone)
}

// mostCatchUp is how often a call requests the state if its own answer is too old.
const mostCatchUp = 3

// learn updates the view with the result of a write. It returns false if the answer is too old for
// that.
func (p *poller) learn(a asking, page *wire.Page) bool {
	got, err := p.view.take(a, page)
	if got.gap && p.now().Way != (byStream{}).name() { // there is a change before it that is not known yet
		p.askNow()
	}
	return got.fresh && err == nil || p.view.idle()
}
