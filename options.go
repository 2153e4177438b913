package pantry

import "time"

// An Option changes how Open opens a namespace.
type Option func(*options)

type options struct {
	readOnly  bool
	follow    time.Duration
	onProblem func(Problem)
	declared  []AnyKey
	steps     []func(*Batch) error
	sealer    Sealer
	limits    limits
	strict    bool
	within    time.Duration
	noteUsage bool
	anySchema bool
	as        string
}

type limits struct{ value, namespace int }

// ReadOnly opens the namespace to read: nothing is made, cut or mended, and
// every write returns ErrReadOnly. There must be a file already.
func ReadOnly() Option { return func(o *options) { o.readOnly = true } }

// As gives the app's name, which is kept beside each change that is made through
// this namespace (Entry.By, CommitInfo.By): of use where two apps share a file.
// It has at most 100 bytes of UTF-8 without control characters, else Open
// returns ErrInvalid. Without it, no name is kept.
func As(name string) Option { return func(o *options) { o.as = name } }

// Strict has Open refuse a damaged file with ErrDamaged. Without it, Open keeps
// the damaged file beside as NAME.damaged-TIME, goes on with every intact entry,
// and reports what was lost as a Problem, since an app must start.
func Strict() Option { return func(o *options) { o.strict = true } }

// SyncWithin makes writes prompt: they return when they are written and
// visible, and are synced to the disk within d, at Flush and at Close. The end
// of the process does not undo a prompt write; a power cut may undo those of
// the last d. d is at most 250 ms, and 0 is the default: each write returns
// when it is synced.
func SyncWithin(d time.Duration) Option { return func(o *options) { o.within = d } }

const longestWithin = 250 * time.Millisecond

// OnProblem has f called with each Problem, by whichever goroutine met it. f
// must not write to the namespace. Without it, problems go to the
// standard log, which log/slog takes over where it is the default.
func OnProblem(f func(Problem)) Option { return func(o *options) { o.onProblem = f } }

// Follow says how often the file is looked at for what other processes wrote,
// while a Watch waits; the default is 250 ms. Without a Watch the file is
// looked at when something is written, and at Refresh. 0 or less is the default.
func Follow(every time.Duration) Option { return func(o *options) { o.follow = every } }

// Schema tells Open how entries came to be as they are now: each step changes
// what the version of the app before it had stored, such as the name or the
// kind of an entry. Open takes the steps that the file has not had, in one
// commit, and keeps their number. A new file begins behind the last step. Steps
// are only ever added at the end; a new key needs none.
//
//	pantry.Schema(
//		func(b *pantry.Batch) error { return b.Rename("hour", "reminder-hour") },
//	)
//
// A step can't use keys that were changed since; Entry, Put, Drop and Rename of
// the batch serve. When a step fails, Open returns its error and nothing is
// changed. A file that has had more steps is ErrNewer.
func Schema(steps ...func(*Batch) error) Option {
	return func(o *options) { o.steps = append(o.steps, steps...) }
}

// AnySchema lets a program open a file that has had steps of a Schema which it
// does not have itself: a second app that only shares some keys, a tool that only
// looks. Without it and without Schema, such a file is ErrNewer: the program would
// read and write entries as they were before the steps.
func AnySchema() Option { return func(o *options) { o.anySchema = true } }

// Limits bounds what can be stored: value is the most bytes of JSON that one
// value has (default and most: 1 MiB), namespace the most that all names and
// values have together (default: none). 0 is the default. A write that passes one is
// ErrTooLarge. Whatever the limits, a value over 64 KiB and a file over 4 MiB
// are reported as Problems: they slow down every launch.
func Limits(value, namespace int) Option {
	return func(o *options) { o.limits = limits{value, namespace} }
}

const (
	largeValue = 64 << 10
	largeFile  = 4 << 20
)

const defaultFollow = 250 * time.Millisecond
