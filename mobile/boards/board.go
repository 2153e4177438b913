package boards

import (
	"context"
	"errors"
	"time"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
)

// codes are those of the network; those of package mobile follow.
var codes = []struct {
	is   error
	code string
}{
	{context.Canceled, "given-up"}, {board.ErrUnreachable, "unreachable"}, {board.ErrForbidden, "forbidden"}, {board.ErrUndeclared, "undeclared"},
	{board.ErrQuota, "quota"}, {board.ErrTooLate, "too-late"}, {board.ErrLink, "link"},
}

// coded returns an error in the form that Code and Sentence can parse.
func coded(err error) error {
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
	return handover.Coded(err)
}

// sent returns nil for a queued change. It is stored on the device and will be sent. The phase
// of its variable says so.
func sent(err error) error {
	if errors.Is(err, board.ErrQueued) {
		return nil
	}
	return coded(err)
}

// A Call lets another thread give up calls that wait for the network.
type Call struct {
	ctx    context.Context
	giveUp context.CancelFunc
}

// NewCall returns a Call. It can be used for any number of calls, until it is given up.
func NewCall() *Call {
	c := &Call{}
	c.ctx, c.giveUp = context.WithCancel(context.Background())
	return c
}

// GiveUp ends the waiting calls with the code given-up. Their changes can have been stored.
func (c *Call) GiveUp() {
	if c != nil && c.giveUp != nil {
		c.giveUp()
	}
}

// context returns the context of the call; that of null never ends.
func (c *Call) context() context.Context {
	if c == nil || c.ctx == nil {
		return context.Background()
	}
	return c.ctx
}

// Options are the settings for joining a board. The defaults are those of package board.
type Options struct {
	all []board.Option
	err error
}

// NewOptions returns the default options.
func NewOptions() *Options { return &Options{} }

func (o *Options) set(one board.Option) *Options {
	if o != nil {
		o.all = append(o.all, one)
	}
	return o
}

// ClientName sets the app's name, which is shown with the label of its link.
func (o *Options) ClientName(name string) *Options { return o.set(board.ClientName(name)) }

// Offline stores changes that can't be sent in a directory of the app, also over a relaunch.
func (o *Options) Offline(dir string) *Options { return o.set(board.Offline(dir)) }

// Timeout sets the time limit of one call in milliseconds.
func (o *Options) Timeout(millis int64) *Options {
	return o.set(board.Timeout(time.Duration(millis) * time.Millisecond))
}

// WithoutPush polls for changes.
func (o *Options) WithoutPush() *Options { return o.set(board.WithoutPush()) }

// OnProblem reports problems that the app survives, as CODE: SENTENCE, through the runner.
func (o *Options) OnProblem(r mobile.Runner, h mobile.ProblemHandler) *Options {
	if o == nil {
		return o
	}
	f, err := mobile.PassProblems(r, h, coded)
	if err != nil {
		o.err = err
		return o
	}
	return o.set(board.OnProblem(f))
}

// A Board is a shared board.
type Board struct {
	b    *board.Board
	keys *mobile.Keys
}

// Join joins the board of a link with an app's keys. It needs no network. options can be null. The
// errors are link, misuse and busy.
func Join(link string, keys *mobile.Keys, options *Options) (*Board, error) {
	declared, err := keys.ForBoard()
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
		return nil, coded(err)
	}
	return &Board{b, keys}, nil
}

func (b *Board) ready() error {
	if b == nil || b.b == nil {
		return handover.Misuse("this board was not joined with Join")
	}
	return nil
}

// Close closes the board. The queue stays stored for the next Join.
func (b *Board) Close() error {
	if err := b.ready(); err != nil {
		return err
	}
	return coded(b.b.Close())
}

// Pause stops requests for changes, for example while the app is not visible, until Resume.
func (b *Board) Pause() {
	if b.ready() == nil {
		b.b.Pause()
	}
}

// Resume ends Pause.
func (b *Board) Resume() {
	if b.ready() == nil {
		b.b.Resume()
	}
}

// Ready waits until the first answer has arrived.
func (b *Board) Ready(c *Call) error {
	if err := b.ready(); err != nil {
		return err
	}
	return coded(b.b.Ready(c.context()))
}

// Pending returns the number of changes that wait to be sent.
func (b *Board) Pending() int {
	if b.ready() != nil {
		return 0
	}
	return len(b.b.Pending())
}

// Trouble returns why the server can't be reached now, as CODE: SENTENCE, or "".
func (b *Board) Trouble() string {
	if b.ready() != nil {
		return ""
	}
	if err := b.b.Status().Err; err != nil {
		return coded(err).Error()
	}
	return ""
}
