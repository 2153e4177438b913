package board

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/wire"
)

// An Option changes how Join joins a board.
type Option func(*options)

type options struct {
	clientName string
	only       []string
	fast, slow time.Duration
	timeout    time.Duration
	patience   time.Duration
	noPush     bool
	declare    []pantry.AnyKey
	offline    string
	keeps      bool // Offline was given
	onProblem  func(pantry.Problem)
	client     *http.Client
}

// ClientName sets the app's name, which others see next to its changes. It is not verified. It has
// at most 100 bytes of UTF-8 without control characters; otherwise Join returns pantry.ErrInvalid.
func ClientName(name string) Option { return func(o *options) { o.clientName = name } }

// Only limits the app to names that begin with one of the prefixes, which end in a slash. A Watch
// of everything covers only these. So does a request whose names would make it too long. On panics
// for a key with another name.
func Only(prefixes ...string) Option {
	return func(o *options) { o.only = append(o.only, prefixes...) }
}

// Poll sets how often the server is asked if nothing better works: every fast while things change,
// and for fifteen times that afterwards, then slowing down to every slow. The defaults are 2 s and
// 15 s; 0 keeps a default.
func Poll(fast, slow time.Duration) Option {
	return func(o *options) { o.fast, o.slow = fast, slow }
}

// WithoutPush makes the board poll, as Poll says, even if the server could push changes.
func WithoutPush() Option { return func(o *options) { o.noPush = true } }

// Timeout limits calls whose context has no deadline, and the time in which the server sends
// nothing in the middle of an answer. The default is 10 s.
func Timeout(d time.Duration) Option { return func(o *options) { o.timeout = d } }

// Patience limits the time in which a call is repeated if no server answers or the server is
// unavailable, within the Timeout. The default is 5 s. A change that may have been stored is sent
// again under its idempotency key, so it counts once.
func Patience(d time.Duration) Option { return func(o *options) { o.patience = d } }

// Declare declares the app's keys on the board as soon as the server is reached: see DeclareKeys.
// Findings are passed to OnProblem as *FindingError. If the link can't declare, nothing is declared
// and nothing is reported.
func Declare(keys ...pantry.AnyKey) Option {
	return func(o *options) { o.declare = append(o.declare, keys...) }
}

// Offline stores in dir what is needed without a network, in a namespace for each board: the known
// values, so that variables show them at the next launch, as Stale; and changes that could not be
// sent. Those return ErrQueued and are sent in order when the server is reached, after a relaunch
// too. Each counts once. All Boards of this process that use dir for the same board share the queue.
// While another process uses it, Join returns pantry.ErrBusy. Close the board, so that nothing known
// is lost.
//
// An operation such as Add counts when it is sent. A Set or a Clear that would overwrite what
// somebody else has stored since is not applied: it is reported as pantry.ErrConflict, and stays in
// Pending until it is retried or discarded.
func Offline(dir string) Option { return func(o *options) { o.offline, o.keeps = dir, true } }

// OnProblem sets the function that is called with problems that the board survives: a value that
// can't be used, so that the default is shown; a server that can't be reached, once an outage; a
// queued change that was refused; a name that nearly matches another (*NearError); a value that a Set
// replaced unseen (*ReplacedError). Without it, problems go to log/slog.
func OnProblem(f func(pantry.Problem)) Option { return func(o *options) { o.onProblem = f } }

// HTTPClient sends the requests with c, except that no redirect is followed.
func HTTPClient(c *http.Client) Option { return func(o *options) { o.client = c } }

// A Board is a board of the shared store, as one app sees it. It is safe for concurrent use.
type Board struct {
	conn     *connection
	view     *view
	poller   *poller
	outbox   *outbox // nil without Offline
	report   *reporter
	opts     options
	ids      ids         // of new records
	declared atomic.Bool // the keys of Declare are declared, or can't be

	ctx    context.Context // ends with Close
	cancel context.CancelFunc
}

// Join returns the board of a link: http(s)://HOST[:PORT]/boards/BOARD, with an access token after
// a # if the server uses tokens. It needs no network: requests begin with the first variable. The
// error wraps ErrLink; it is pantry.ErrInvalid for a bad name in ClientName or Only, and with Offline
// it can be pantry.ErrBusy or another error of pantry.Open.
func Join(address string, opts ...Option) (*Board, error) {
	l, err := parseLink(address)
	if err != nil {
		return nil, err
	}
	o := options{client: http.DefaultClient}
	for _, opt := range opts {
		if opt == nil {
			return nil, fmt.Errorf("join: %w", refuse.As(pantry.ErrInvalid, "an option is nil"))
		}
		opt(&o)
	}
	if err := o.check(); err != nil {
		return nil, fmt.Errorf("join: %w", err)
	}
	client := *o.client
	client.Timeout = 0 // it would cut streams; Timeout limits calls
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	b := &Board{opts: o, report: &reporter{place: l.board, onProblem: o.onProblem}}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	b.conn = &connection{
		link: l, http: &client, instance: draw(), clientName: o.clientName,
		timeout: o.timeout, patience: o.patience, ctx: b.ctx,
	}
	b.poller = newPoller(b.ctx, b.conn, b.report, &b.opts)
	b.poller.answer = b.answered
	b.view = b.poller.view
	b.view.from = wire.InstanceID(b.conn.instance)
	if o.offline != "" {
		if err = b.useOutbox(o.offline); err != nil {
			return nil, fmt.Errorf("join board %s: %w", l.board, err)
		}
	}
	if l.open() {
		b.report.problem("", errors.New("the link is http, not https: others on the network path can read and change what is sent"))
	}
	if len(o.declare) > 0 {
		b.poller.start()
	}
	return b, nil
}

// check reports what is wrong with the options, and sets the defaults.
func (o *options) check() error {
	switch {
	case o.client == nil:
		return refuse.As(pantry.ErrInvalid, "HTTPClient needs a client, not nil; leave the option out for the default")
	case o.keeps && o.offline == "":
		return refuse.As(pantry.ErrInvalid, "Offline needs a directory; pantry.AppDir returns one")
	}
	if err := (entry.Author{By: o.clientName}).Check(); err != nil {
		return err
	}
	for _, p := range o.only {
		name, ends := strings.CutSuffix(p, "/")
		if err := entry.CheckName(name); err != nil || !ends {
			return refuse.As(pantry.ErrInvalid, "%q in Only must be the beginning of names, up to and with a slash", p)
		}
	}
	for _, d := range []struct {
		at  *time.Duration
		def time.Duration
	}{{&o.fast, 2 * time.Second}, {&o.slow, 15 * time.Second}, {&o.timeout, 10 * time.Second}, {&o.patience, 5 * time.Second}} {
		if *d.at <= 0 {
			*d.at = d.def
		}
	}
	o.slow = max(o.slow, o.fast)
	if o.onProblem == nil {
		o.onProblem = func(p pantry.Problem) {
			slog.Warn("pantry: "+p.Err.Error(), "place", p.Place, "name", p.Name)
		}
	}
	return nil
}

// draw returns 128 random bits.
func draw() string {
	var bits [16]byte
	_, _ = rand.Read(bits[:]) // it never fails
	return hex.EncodeToString(bits[:])
}

// Name returns the board's name.
func (b *Board) Name() string { return b.conn.link.board }

// Close ends all requests and every Watch. The queue stays stored. Get continues to return the last
// values; calls return pantry.ErrClosed. A second Close returns nil.
func (b *Board) Close() error {
	if first := b.poller.tasks.end(b.cancel); !first || b.outbox == nil {
		return nil
	}
	return b.outbox.leave(b)
}

// Pause stops requests for changes, for example while the app is in the background: nothing that
// others change arrives once it has returned. Resume starts them again at once. Calls work meanwhile.
func (b *Board) Pause() { b.poller.pause(true) }

// Resume ends Pause.
func (b *Board) Resume() { b.poller.pause(false) }

// Status describes the connection to the server.
type Status struct {
	Way         string    // "push", "wait" or "poll": how changes arrive now; "" means not yet
	Polls       int       // requests that were answered at once, or not at all
	NotModified int       // of these, answers that nothing has changed
	Failed      int       // attempts of any kind that were not answered, or answered with an error
	Pushed      int       // answers that arrived by a stream
	Waited      int       // answers to a waiting request
	Answered    time.Time // when the newest answer arrived; zero means none yet
	Version     int64     // of the board, in that answer
	Queued      int       // changes that wait to be sent
	Trouble     string    // what does not work on this network, for example streams; "" if everything does
	Err         error     // why the newest attempt failed; nil if it did not
}

// Status returns the current Status.
func (b *Board) Status() Status {
	s := b.poller.now()
	if b.outbox != nil {
		s.Queued = b.outbox.waiting(b)
	}
	return s
}

// Ready waits until the server has returned the values of all variables, so that Get returns what
// is stored; without variables it waits for the first answer. It waits until ctx ends, or for the
// Timeout if ctx has no deadline. The error wraps ErrForbidden if the server refuses the link;
// otherwise it wraps ErrUnreachable and the reason, or is pantry.ErrClosed.
func (b *Board) Ready(ctx context.Context) error {
	if ctx == nil {
		panic("board: Ready needs a context, not nil; use context.Background() if there is none")
	}
	if _, has := ctx.Deadline(); !has {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, b.opts.timeout)
		defer cancel()
	}
	w := b.watch(b.view.boundNames(), nil)
	defer b.view.unwatch(w)
	for {
		settled, err := b.view.settled(w)
		switch {
		case b.ctx.Err() != nil:
			return b.conn.fail("join", "", pantry.ErrClosed)
		case settled:
			return nil
		case errors.Is(err, ErrForbidden):
			return b.conn.fail("join", "", err)
		}
		if !w.wait(ctx, b.ctx) && b.ctx.Err() == nil {
			_, cause := b.view.settled(w) // an attempt can have failed just now
			if cause == nil {
				cause = ctx.Err()
			}
			return b.conn.fail("join", "", &Error{Index: -1, Code: "unreachable", Sentence: "no answer yet: " + sentenceOf(cause), Err: errors.Join(ErrUnreachable, ctx.Err(), cause)})
		}
	}
}

// Known returns what is known of a name without a request: of a variable, or of any name while a
// Watch without keys runs.
func (b *Board) Known(name string) (e pantry.Entry, found bool) {
	r := b.view.statesOf([]string{name})[name]
	if r == nil {
		return pantry.Entry{}, false
	}
	return pantry.Entry(r.entry), !r.entry.Value.IsZero()
}

// answered starts what waits for the server, after each of its answers. It does not block.
func (b *Board) answered() {
	if b.outbox != nil {
		b.outbox.wake()
	}
	if len(b.opts.declare) > 0 && b.declared.CompareAndSwap(false, true) {
		b.poller.tasks.start(b.declareNow)
	}
}

// declareNow declares the keys of Declare and reports the findings.
func (b *Board) declareNow() {
	findings, err := b.DeclareKeys(b.ctx, b.opts.declare...)
	switch {
	case b.ctx.Err() != nil, errors.Is(err, ErrForbidden): // the link only allows reading
		return
	case errors.Is(err, ErrUnreachable):
		b.declared.Store(false) // the next answer makes it try again
		return
	case err != nil:
		b.report.problem("", err)
	}
	for _, f := range findings {
		b.report.problem(f.Name, &FindingError{f})
	}
}
