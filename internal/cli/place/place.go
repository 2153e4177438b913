// Package place is what the commands work on: a namespace on this device or a board on the web, now
// or at an earlier moment, with the same verbs.
package place

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
)

// A Place is a namespace or a board, for reading. It must be closed.
type Place interface {
	Where() string // its name for people
	Get(ctx context.Context, name string) (entry.Entry, bool, error)
	List(ctx context.Context, prefix string) (Listing, error)
	History(ctx context.Context, limit int, names []string) ([]entry.Commit, error)
	// Watch calls its function with the values now and then with each change, until ctx ends.
	// Without names it covers everything.
	Watch(ctx context.Context, names []string) iter.Seq2[entry.Entry, error]
	Close() error
}

// A Present is a place as it is now, which can be changed.
type Present interface {
	Place
	// Commit makes edits, all or none.
	Commit(ctx context.Context, edits []entry.Edit) (rules.Outcome, error)
	// At returns the entries at a moment, and the version of that moment.
	At(ctx context.Context, when When) ([]entry.Entry, int64, error)
	Rename(ctx context.Context, from, to string, force bool) (entry.Entry, error)
	// Forget removes entries and every trace of them, the past included. The error wraps
	// pantry.ErrAbsent for a name that left no trace.
	Forget(ctx context.Context, names []string) error
	// Reset removes everything and returns the names that existed.
	Reset(ctx context.Context) (version int64, gone []string, err error)
	// Apply sets each entry to its new value, in one commit, if it still has its old one. Declared
	// keys hold, as for edits and Rename, unless force is set.
	Apply(ctx context.Context, changes []entry.Change, force bool) (version int64, err error)
	// Withdraw withdraws the declaration of a key. The error wraps pantry.ErrAbsent if there is
	// none.
	Withdraw(ctx context.Context, name string) (k entry.Declared, version int64, err error)
	// CloseKeys closes or opens the list of declared keys of a board.
	CloseKeys(ctx context.Context, closed bool) (version int64, err error)
	// Restore brings back an earlier state of names, or of everything without names. changes is the
	// difference.
	Restore(ctx context.Context, when When, names []string, changes []entry.Change, force bool) (version int64, err error)
	// Replaced reports that everything was replaced by data from elsewhere.
	Replaced() error
}

// A Listing is everything that a place holds.
type Listing struct {
	Place    string
	Path     string // of the file, on a device
	Version  int64
	Entries  []entry.Entry // by the byte order of their names
	Declared []entry.Declared
}

// A Way says how to open a place.
type Way struct {
	Write   bool
	Create  bool                                 // create a missing namespace; implies Write
	MakeDir bool                                 // create its directory too
	Every   time.Duration                        // how often to look for changes; 0 means the default
	Push    bool                                 // use a server's streams
	Tell    func(where string, p pantry.Problem) // receives problems of opening and reading
	Made    func(dir string)                     // called when a directory was created
	Say     func(sentence string)                // called when the server of a watched board goes away and when it comes back
}

// Patience is how long a call to a server is retried.
const Patience = 2 * time.Second

// clientName is the Client-Name of commands.
const clientName = "smallpantry"

// UsageError is about the name of a place, not about its content.
type UsageError struct{ Err error }

func (e UsageError) Error() string { return e.Err.Error() }

// Unwrap returns the cause.
func (e UsageError) Unwrap() error { return e.Err }

func usage(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// absent returns the error for something that does not exist.
func absent(format string, args ...any) error {
	return &absence{fmt.Sprintf(format, args...)}
}

type absence struct{ sentence string }

func (e *absence) Error() string { return e.sentence }
func (e *absence) Unwrap() error { return pantry.ErrAbsent }

// IsURL reports whether a place is a board or a server.
func IsURL(s string) bool {
	return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")
}

// Shown returns a place without its token.
func Shown(where string) string {
	if IsURL(where) {
		where, _, _ = strings.Cut(where, "#")
	}
	return where
}

// IsBoard reports whether a URL is that of a board.
func IsBoard(url string) bool { return IsURL(url) && strings.Contains(url, "/boards/") }

// Open opens DIR/NAMESPACE or http://HOST/boards/BOARD as it is.
func Open(where string, w Way) (Present, error) {
	tell := func(p pantry.Problem) { w.Tell(Shown(where), p) }
	if IsURL(where) {
		s := &shared{address: Shown(where), say: w.Say, tell: tell}
		if s.say == nil {
			s.say = func(string) {}
		}
		opts := []board.Option{board.ClientName(clientName), board.Patience(Patience), board.Poll(w.Every, w.Every), board.OnProblem(s.problem)}
		if !w.Push {
			opts = append(opts, board.WithoutPush())
		}
		b, err := board.Join(where, opts...)
		if err != nil {
			return nil, err
		}
		s.b = b
		return s, nil
	}
	dir, name, err := Split(where)
	if err != nil {
		return nil, err
	}
	if err := NotExport(dir, name); err != nil {
		return nil, err
	}
	opts := []pantry.Option{pantry.OnProblem(tell), pantry.Follow(w.Every), pantry.ClientName(clientName), pantry.AnySchema()}
	if !w.Write && !w.Create {
		opts = append(opts, pantry.ReadOnly())
	} else if !w.Create && !isFile(filepath.Join(dir, name+".jsonl")) {
		return nil, NoNamespace(dir, name)
	}
	isNew := !IsDir(dir)
	if isNew && w.Create && !w.MakeDir {
		return nil, absent("there is no directory %s; put and import make one", dir)
	}
	ns, err := pantry.Open(dir, name, opts...)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, NoNamespace(dir, name)
	}
	if err != nil {
		return nil, err
	}
	if isNew && w.Made != nil {
		w.Made(dir)
	}
	return openDevice(ns, where, w.Write || w.Create)
}

// OpenAt opens a place at an earlier moment, for reading.
func OpenAt(where string, when When, w Way) (Place, error) {
	p, err := Open(where, w)
	if err != nil {
		return nil, err
	}
	return &past{p, p, when}, nil
}

// NoNamespace returns the error for a namespace that does not exist.
func NoNamespace(dir, name string) error {
	if path := filepath.Join(dir, name); IsDir(path) {
		return absent("%[1]s is a directory and no namespace: write %[1]s/NAMESPACE; smallpantry list %[1]s lists what there is", path)
	}
	names, _ := pantry.Namespaces(dir) // without any namespace there is no suggestion
	return absent("there is no namespace %s in %s; put makes one%s", name, dir, DidYouMean(name, names))
}

// DidYouMean suggests those of some names that nearly match one, or returns "".
func DidYouMean(name string, names []string) string {
	var like []string
	for _, other := range names {
		if near.Match(name, other) != "" {
			like = append(like, other)
		}
	}
	if len(like) == 0 {
		return ""
	}
	return "; did you mean " + strings.Join(like, " or ") + "?"
}

// Split returns the directory and the name of a namespace.
func Split(where string) (dir, name string, err error) {
	if where == "" || strings.HasSuffix(where, "/") {
		return "", "", usage("%q is not a place: write DIR/NAMESPACE or http://HOST:PORT/boards/BOARD", where)
	}
	if host, _, _ := strings.Cut(where, "/"); looksLikeHost(host) {
		if _, rest, found := strings.Cut(where, "://"); found {
			where = rest
		}
		return "", "", usage("%s looks like a server's address: write http://%s, or ./%s for a directory of that name", scan.Quote(host), where, where)
	}
	dir, name = filepath.Split(filepath.FromSlash(where))
	if dir == "" {
		dir = "."
	}
	if bare, ok := strings.CutSuffix(name, ".jsonl"); ok {
		return "", "", usage("the name of a place has no file extension: write %s", filepath.Join(dir, bare))
	}
	if err := pantry.CheckNamespace(name); err != nil {
		return "", "", UsageError{err}
	}
	return filepath.Clean(dir), name, nil
}

// looksLikeHost reports whether the first part of a path looks like a server: it has a scheme or a
// port. A single letter is a drive.
func looksLikeHost(first string) bool {
	host, port, found := strings.Cut(first, ":")
	return found && len(host) > 1 && !strings.ContainsFunc(port, func(r rune) bool { return r < '0' || r > '9' })
}

// IsDir reports whether a directory exists.
func IsDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Unwritten returns the declared keys that are at their default.
func (l Listing) Unwritten(prefix string) []entry.Declared {
	written := map[string]bool{}
	for _, e := range l.Entries {
		written[e.Name] = true
	}
	out := []entry.Declared{}
	for _, k := range l.Declared {
		if !written[k.Name] && !k.Family && strings.HasPrefix(k.Name, prefix) {
			out = append(out, k)
		}
	}
	return out
}

// MarshalJSON returns {"place","path","version","entries":[…],"declared":[…]}.
func (l Listing) MarshalJSON() ([]byte, error) {
	return scan.AppendFields(nil, scan.Always("place", &l.Place), scan.Maybe("path", &l.Path), scan.Always("version", &l.Version),
		scan.Always("entries", scan.List(&l.Entries, nil, entry.Entry.AppendJSON)),
		scan.Always("declared", scan.List(&l.Declared, nil, entry.Declared.AppendJSON))), nil
}

// past is a place at an earlier moment.
type past struct {
	Place
	now  Present
	when When
}

func (p *past) Get(ctx context.Context, name string) (entry.Entry, bool, error) {
	entries, _, err := p.now.At(ctx, p.when)
	if i := slices.IndexFunc(entries, func(e entry.Entry) bool { return e.Name == name }); i >= 0 {
		return entries[i], true, err
	}
	return entry.Entry{Name: name}, false, err
}

func (p *past) List(ctx context.Context, prefix string) (Listing, error) {
	l, err := p.Place.List(ctx, prefix)
	if err != nil {
		return l, err
	}
	l.Entries, l.Version, err = p.now.At(ctx, p.when)
	l.Entries = slices.DeleteFunc(l.Entries, func(e entry.Entry) bool { return !strings.HasPrefix(e.Name, prefix) })
	return l, err
}

func (p *past) Watch(context.Context, []string) iter.Seq2[entry.Entry, error] {
	return func(yield func(entry.Entry, error) bool) {
		yield(entry.Entry{}, usage("a place at @%s does not change; watch the place without it", p.when))
	}
}
