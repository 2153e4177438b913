package shared

import (
	"context"
	"errors"
	"iter"
	"time"

	"github.com/small-pantry/pantry"
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
	if r == nil || h == nil {
		o.err = handover.Misuse("OnProblem takes a runner and a handler")
		return o
	}
	return o.set(board.OnProblem(func(p pantry.Problem) {
		text := told(p.Err).Error()
		r.Post(mobile.NewTask(problem{h, p.Name, text}))
	}))
}

// A problem is a task.
type problem struct {
	h          mobile.ProblemHandler
	name, text string
}

// Changed tells of it.
func (p problem) Changed() { p.h.Problem(p.name, p.text) }

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

// A State is what is known of a value.
type State struct {
	Phase   string // unknown, current, sending, queued, stale, unreadable or refused
	Found   bool   // something is stored
	Mine    bool   // the newest change was made here
	Queued  int    // changes that wait to be sent
	Version int64
	Updated int64  // in milliseconds since 1970 (UTC), by the server's clock
	By      string // who
	Trouble string // as CODE: SENTENCE, why it is as it is; empty: all is well
}

// A variable is a key on a board: M is how another language has its values.
type variable[M, T any] struct {
	v    board.Var[T]
	in   func(M) (T, error)
	out  func(T) M
	made bool
}

// on gives the variable of a key.
func on[M, T any](b *Board, k any, in func(M) (T, error), out func(T) M) (v variable[M, T], err error) {
	if err = b.ready(); err != nil {
		return v, err
	}
	one, err := handover.Key(b.keys, k)
	if err != nil {
		return v, err
	}
	declared, ok := one.(pantry.Key[T])
	if !ok {
		return v, handover.Misuse("this key is of another kind")
	}
	defer func() { // as of a sealed key, which no board takes
		if p := recover(); p != nil {
			if bad, is := p.(error); is {
				err = handover.Misuse(bad.Error())
			} else {
				err = handover.Misuse("the key can't be on a board")
			}
		}
	}()
	return variable[M, T]{board.On(b.b, declared), in, out, true}, nil
}

func same[T any](x T) T { return x }

func sure[T any](x T) (T, error) { return x, nil }

func (v *variable[M, T]) ready() error {
	if v == nil || !v.made {
		return handover.Misuse("this variable was not made by a board")
	}
	return nil
}

// Get gives what is known last, or else the default. It does not wait. Its only error is misuse.
func (v *variable[M, T]) Get() (x M, err error) {
	if err = v.ready(); err != nil {
		return x, err
	}
	return v.out(v.v.Get()), nil
}

// State says what is known of it, and does not wait.
func (v *variable[M, T]) State() (*State, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	s := v.v.State()
	out := &State{Phase: s.Phase.String(), Found: s.Found, Mine: s.Mine, Queued: s.Queued, Version: s.Version, By: s.By}
	if !s.Updated.IsZero() {
		out.Updated = s.Updated.UnixMilli()
	}
	if s.Err != nil {
		out.Trouble = told(s.Err).Error()
	}
	return out, nil
}

// Set stores a value, whoever wrote before.
func (v *variable[M, T]) Set(c *Call, x M) error {
	return v.store(x, func(x T) error { return v.v.Set(c.context(), x) })
}

// Seed is Set where nothing is stored.
func (v *variable[M, T]) Seed(c *Call, x M) error {
	return v.store(x, func(x T) error { return v.v.Seed(c.context(), x) })
}

func (v *variable[M, T]) store(x M, f func(T) error) error {
	if err := v.ready(); err != nil {
		return err
	}
	stored, err := v.in(x)
	if err == nil {
		err = f(stored)
	}
	return told(err)
}

// Clear removes what is stored.
func (v *variable[M, T]) Clear(c *Call) error {
	if err := v.ready(); err != nil {
		return err
	}
	return told(v.v.Clear(c.context()))
}

// Watch tells changed of each change of the value or of its state, and once at the beginning.
func (v *variable[M, T]) Watch(r mobile.Runner, changed mobile.Handler) (*mobile.Watching, error) {
	if err := v.ready(); err != nil {
		return nil, err
	}
	w, err := handover.Watch(r, changed, func(ctx context.Context) iter.Seq[struct{}] {
		return func(yield func(struct{}) bool) {
			for range v.v.Watch(ctx) {
				if !yield(struct{}{}) {
					return
				}
			}
		}
	})
	if err != nil {
		return nil, err
	}
	return w.(*mobile.Watching), nil
}
