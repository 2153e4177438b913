package pantry

import "time"

// An Option changes how Open opens a namespace.
type Option func(*options)

type options struct {
	readOnly  bool
	follow    time.Duration
	onProblem func(Problem)
}

// ReadOnly opens the namespace to read: nothing is made, cut or mended, and
// every write returns ErrReadOnly. There must be a file already.
func ReadOnly() Option { return func(o *options) { o.readOnly = true } }

// OnProblem has f called with each Problem, by whichever goroutine met it. f
// must not write to the namespace. Without it, problems go to log/slog.
func OnProblem(f func(Problem)) Option { return func(o *options) { o.onProblem = f } }

// Follow says how often the file is looked at for what other processes wrote,
// while a Watch waits; the default is 250 ms. Without a Watch the file is
// looked at when something is written, and at Refresh. 0 or less is the default.
func Follow(every time.Duration) Option { return func(o *options) { o.follow = every } }

const defaultFollow = 250 * time.Millisecond
