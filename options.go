package pantry

import "time"

// An Option changes how Open opens a namespace.
type Option func(*options)

type options struct {
	readOnly       bool
	follow         time.Duration
	onProblem      func(Problem)
	declared       []AnyKey
	newDeclaration func(keys []AnyKey) (*declaration, error) // nil without Declare
	declare        func(ns *Namespace) error                 // nil without Declare
	steps          []func(*Batch) error
	sealer         Sealer
	limits         limits
	strict         bool
	within         time.Duration
	noteUsage      func(ns *Namespace) // nil without NoteUsage
	anySchema      bool
	as             string
}

type limits struct{ value, namespace int }

// ReadOnly opens the namespace for reading. Open creates, truncates and salvages nothing, and every
// write returns ErrReadOnly. The file must exist.
func ReadOnly() Option { return func(o *options) { o.readOnly = true } }

// ClientName sets the writer's name. It is stored with each change that is made through this namespace
// (Entry.By, CommitInfo.By), which helps if two apps share a file. It has at most 100 bytes of
// UTF-8 without control characters; otherwise Open returns ErrInvalid. Without it, no name is
// stored.
func ClientName(name string) Option { return func(o *options) { o.as = name } }

// Strict makes Open refuse a damaged file with ErrDamaged. By default Open keeps the damaged file
// beside the original as NAME.damaged-TIME, continues with every intact entry, and reports a
// Problem that says what was lost, since an app must start.
func Strict() Option { return func(o *options) { o.strict = true } }

// SyncWithin makes writes prompt: they return once they are written and visible. They are synced to
// the disk within d, at Flush and at Close. A crash of the process does not undo a prompt write. A
// power cut can undo the writes of the last d. d is at most 250 ms. The default, 0, syncs each
// write before it returns.
func SyncWithin(d time.Duration) Option { return func(o *options) { o.within = d } }

const longestWithin = 250 * time.Millisecond

// OnProblem sets the function that receives each Problem. Any goroutine can call f. f must not
// write to the namespace. Without OnProblem, problems go to the standard log, which log/slog takes
// over if it is the default.
func OnProblem(f func(Problem)) Option { return func(o *options) { o.onProblem = f } }

// Follow sets how often a waiting Watch looks for changes by other processes. The default is 250
// ms; 0 or less means the default. Without a Watch, the namespace looks at each write and at
// Refresh.
func Follow(every time.Duration) Option { return func(o *options) { o.follow = every } }

// Schema sets the steps that migrate a file from one version of the app to the next. Each step
// changes what the version before it had stored, for example the name or the kind of an entry. Open
// runs the steps that the file has not had, in one commit, and stores their number. A new file
// starts after the last step. Add steps at the end only. A new key needs none.
//
//	pantry.Schema(
//		func(b *pantry.Batch) error { return b.Rename("hour", "reminder-hour") },
//	)
//
// A step can't use keys that have changed since. Use Entry, Put, Drop and Rename of the batch. If a
// step fails, Open returns its error and changes nothing. A file that has had more steps is
// ErrNewer.
func Schema(steps ...func(*Batch) error) Option {
	return func(o *options) { o.steps = append(o.steps, steps...) }
}

// AnySchema lets a program without a Schema open a file that has had schema steps: a second app
// that shares only some keys, or a tool that only reads. Without AnySchema and Schema, such a file
// is ErrNewer, since the program would read and write the entries of an old version.
func AnySchema() Option { return func(o *options) { o.anySchema = true } }

// MaxValue sets the maximum size of one value in bytes of JSON. The default and maximum is 1 MiB. A
// write over it is ErrTooLarge, unless it makes a larger entry smaller. A value of over 64 KiB is
// reported as a Problem with any limit, since it slows down every launch.
func MaxValue(bytes int) Option { return func(o *options) { o.limits.value = bytes } }

// MaxTotal sets the maximum size of all names and values together in bytes. By default there is none.
// A write that makes the namespace larger beyond it is ErrTooLarge. A file of over 4 MiB is reported
// as a Problem with any limit.
func MaxTotal(bytes int) Option { return func(o *options) { o.limits.namespace = bytes } }

const (
	largeValue = 64 << 10
	largeFile  = 4 << 20
)

const defaultFollow = 250 * time.Millisecond
