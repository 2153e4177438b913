package shared

import (
	"context"
	"errors"
	"time"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
)

// codes are those of the network; those that package mobile has come after them.
var codes = []struct {
	is   error
	code string
}{
	{board.ErrQueued, "queued"}, {context.Canceled, "given-up"}, {board.ErrUnreachable, "unreachable"}, {board.ErrForbidden, "forbidden"}, {board.ErrUndeclared, "undeclared"},
	{board.ErrQuota, "quota"}, {board.ErrTooLate, "too-late"}, {board.ErrLink, "link"},
}

// told makes an error one that another language can take apart.
func told(err error) error {
	for _, c := range codes {
		if errors.Is(err, c.is) {
			sentence := err.Error()
			var e *board.Error
			if errors.As(err, &e) && e.Sentence != "" {
				sentence = e.Sentence
			}
			return handover.Failure(c.code, sentence, err)
		}
	}
	return handover.Told(err)
}

// A Call is what waits for the network, and can be given up.
type Call struct {
	ctx    context.Context
	giveUp context.CancelFunc
}

// NewCall gives a call. It serves for any number of them, until it is given up.
func NewCall() *Call {
	c := &Call{}
	c.ctx, c.giveUp = context.WithCancel(context.Background())
	return c
}

// GiveUp ends what waits, with the code given-up: it may have been done.
func (c *Call) GiveUp() {
	if c != nil && c.giveUp != nil {
		c.giveUp()
	}
}

// context is that of the call; that of one that is null ends with nothing.
func (c *Call) context() context.Context {
	if c == nil || c.ctx == nil {
		return context.Background()
	}
	return c.ctx
}

// Options are how a board is joined. Those that are not set are as in package board.
type Options struct {
	all []board.Option
	err error
}

// NewOptions gives options, none set.
func NewOptions() *Options { return &Options{} }

func (o *Options) set(one board.Option) *Options {
	if o != nil {
		o.all = append(o.all, one)
	}
	return o
}

// ClientName is how the app calls itself, beside the label of its link.
func (o *Options) ClientName(name string) *Options { return o.set(board.ClientName(name)) }

// Offline keeps what can't be sent in a directory of the app's own, over a relaunch too.
func (o *Options) Offline(dir string) *Options { return o.set(board.Offline(dir)) }

// Timeout is how long one call may take, in milliseconds.
func (o *Options) Timeout(millis int64) *Options {
	return o.set(board.Timeout(time.Duration(millis) * time.Millisecond))
}

// WithoutPush has changes be asked for, and not pushed.
func (o *Options) WithoutPush() *Options { return o.set(board.WithoutPush()) }

// OnProblem tells what went wrong and was survived, as CODE: SENTENCE, through the runner.
func (o *Options) OnProblem(r mobile.Runner, h mobile.ProblemHandler) *Options {
	if o == nil {
		return o
	}
	f, err := handover.Problems(r, h, told)
	if err != nil {
		o.err = err
		return o
	}
	return o.set(board.OnProblem(f))
}

// A Board is a shared one.
type Board struct {
	b    *board.Board
	keys *mobile.Keys
}

// Join joins the board of a link, with an app's keys; it needs no network. options may be null.
// The errors are link and misuse.
func Join(link string, keys *mobile.Keys, options *Options) (*Board, error) {
	declared, err := handover.All(keys)
	if err != nil {
		return nil, err
	}
	opts := []board.Option{board.Declare(declared...)}
	if options != nil {
		if options.err != nil {
			return nil, options.err
		}
		opts = append(opts, options.all...)
	}
	b, err := board.Join(link, opts...)
	if err != nil {
		return nil, told(err)
	}
	return &Board{b, keys}, nil
}

func (b *Board) ready() error {
	if b == nil || b.b == nil {
		return handover.Misuse("this board was not joined with Join")
	}
	return nil
}

// Close ends it. What is queued stays, for the next Join.
func (b *Board) Close() error {
	if err := b.ready(); err != nil {
		return err
	}
	return told(b.b.Close())
}

// Pause has nothing be asked for, as when the app is not seen, until Resume.
func (b *Board) Pause() {
	if b.ready() == nil {
		b.b.Pause()
	}
}

// Resume goes on where Pause left off.
func (b *Board) Resume() {
	if b.ready() == nil {
		b.b.Resume()
	}
}

// Ready waits until the first answer is here.
func (b *Board) Ready(c *Call) error {
	if err := b.ready(); err != nil {
		return err
	}
	return told(b.b.Ready(c.context()))
}

// Pending is how many changes wait to be sent.
func (b *Board) Pending() int {
	if b.ready() != nil {
		return 0
	}
	return len(b.b.Pending())
}

// Trouble says why the server can't be reached at present, as CODE: SENTENCE; empty where it can.
func (b *Board) Trouble() string {
	if b.ready() != nil {
		return ""
	}
	if err := b.b.Status().Err; err != nil {
		return told(err).Error()
	}
	return ""
}
