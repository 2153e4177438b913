package place

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"sync/atomic"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/value"
)

// shared is a board as a place.
type shared struct {
	b       *board.Board
	address string
	say     func(sentence string) // see Way.Say; not nil
	tell    func(pantry.Problem)  // see Way.Tell
	watches atomic.Bool
}

// problem passes on a problem of the board. A name that nearly matches another one is reported by what
// asked for it: a problem could come too late.
func (s *shared) problem(p pantry.Problem) {
	if near := (*board.NearError)(nil); errors.As(p.Err, &near) && !s.watches.Load() {
		return
	}
	s.tell(p)
}

func (s *shared) Where() string { return s.address }
func (s *shared) Close() error  { return s.b.Close() }

func (s *shared) Get(ctx context.Context, name string) (entry.Entry, bool, error) {
	e, found, err := s.b.Entry(ctx, name)
	return entry.Entry(e), found, err
}

func (s *shared) List(ctx context.Context, prefix string) (l Listing, err error) {
	l.Place = s.address
	all, version, err := s.b.All(ctx, prefix)
	if l.Entries, l.Version = entriesOf(all), version; err == nil {
		l.Declared, _, err = s.keys(ctx)
	}
	return l, err
}

func (s *shared) keys(ctx context.Context) (keys []entry.Declared, closed bool, err error) {
	all, closed, err := s.b.Keys(ctx)
	return declarationsOf(all), closed, err
}

func (s *shared) History(ctx context.Context, limit int, names []string) ([]entry.Commit, error) {
	past, err := s.b.History(ctx, limit, names...)
	return commitsOf(past), err
}

func (s *shared) At(ctx context.Context, when When) ([]entry.Entry, int64, error) {
	if version, ok := when.Version(); ok {
		entries, err := s.b.EntriesAt(ctx, version)
		return entriesOf(entries), version, err
	}
	entries, version, err := s.b.EntriesAtTime(ctx, when.time)
	return entriesOf(entries), version, err
}

func (s *shared) Watch(ctx context.Context, names []string) iter.Seq2[entry.Entry, error] {
	s.watches.Store(true)
	return func(yield func(entry.Entry, error) bool) {
		first, cancel := context.WithTimeout(ctx, Patience)
		err := s.b.Ready(first)
		cancel()
		if err != nil {
			if ctx.Err() == nil {
				yield(entry.Entry{}, err)
			}
			return
		}
		told := map[string]pantry.Entry{}
		away := false
		for changed := range s.b.WatchNames(ctx, names...) {
			// The first values can include some that are stale, and later confirmed.
			if err := s.b.Status().Err; (err != nil) != away {
				if away = err != nil; away {
					if e := (*board.Error)(nil); errors.As(err, &e) {
						err = errors.New(e.Sentence)
					}
					s.say(fmt.Sprintf("%v; changes will be shown when it answers again", err))
				} else {
					s.say("the server answers again")
				}
			}
			for _, name := range changed {
				e, _ := s.b.Known(name)
				e.Name = name
				if before, was := told[name]; was && before.Version == e.Version && value.Equal(before.Value, e.Value) {
					continue
				}
				told[name] = e
				if !yield(entry.Entry(e), nil) {
					return
				}
			}
		}
		if ctx.Err() == nil {
			yield(entry.Entry{}, errors.New("the board was closed"))
		}
	}
}

// unforced refuses what a server does not support.
func unforced(force bool) error {
	if force {
		return usage("a board enforces its declarations for every app; --force works on a device only")
	}
	return nil
}

func (s *shared) Commit(ctx context.Context, edits []entry.Edit) (out rules.Outcome, err error) {
	ops := make([]board.Op, len(edits))
	for i, e := range edits {
		if err := unforced(e.Force); err != nil {
			return out, err
		}
		ops[i] = OpOf(e)
	}
	done, err := s.b.Commit(ctx, ops...)
	for _, near := range done.Near {
		s.tell(pantry.Problem{Place: s.b.Name(), Name: near.Name, Time: time.Now(), Err: &near})
	}
	if e := (*board.Error)(nil); len(ops) == 1 && edits[0].Name != "" && errors.As(err, &e) { // the command is no commit
		named := *e
		named.Op = edits[0].Op.Verb.String()
		err = &named
	}
	return OutcomeOf(done), err
}

// put sets an entry of any kind to v.
func put(name string, v value.Value) entry.Edit {
	return entry.Edit{Name: name, Op: value.Op{Verb: value.Put, Operand: v, Kind: v.Kind()}}
}

func drop(name string) entry.Edit { return entry.Edit{Name: name, Op: value.Op{Verb: value.Drop}} }

func (s *shared) Rename(ctx context.Context, from, to string, force bool) (entry.Entry, error) {
	if err := unforced(force); err != nil {
		return entry.Entry{}, err
	}
	e, found, err := s.Get(ctx, from)
	switch {
	case err != nil:
		return e, err
	case !found:
		return e, absent("nothing is stored under %s in %s", from, s.address)
	case from == to:
		return e, nil
	}
	done, err := s.Commit(ctx, []entry.Edit{put(to, e.Value).If(0, time.Time{}), drop(from).If(e.Version, e.Updated)})
	if err != nil {
		return e, err
	}
	return done.Entries[0], nil
}

func (s *shared) Forget(ctx context.Context, names []string) error {
	for _, name := range names { // before one is removed
		_, found, err := s.b.Entry(ctx, name)
		if err == nil && !found { // of names that exist only in the past
			var past []pantry.CommitInfo
			past, err = s.b.History(ctx, 1, name)
			found = len(past) > 0
		}
		if err != nil || !found {
			return cmp.Or(err, absent("nothing is stored under %s in %s, and its history has nothing of it", name, s.address))
		}
	}
	return s.b.Forget(ctx, names...)
}

func (s *shared) Reset(ctx context.Context) (int64, []string, error) {
	done, err := s.b.Commit(ctx, board.Op{Reset: true})
	gone := make([]string, len(done.Gone))
	for i, g := range done.Gone {
		gone[i] = g.Name
	}
	return done.Version, gone, err
}

func (s *shared) Apply(ctx context.Context, changes []entry.Change, force bool) (int64, error) {
	if err := unforced(force); err != nil {
		return 0, err
	}
	if len(changes) > board.MaxOps {
		return 0, fmt.Errorf("it would change %d entries, and a board accepts %d in one commit; nothing was changed\n  Do it in parts. Each part is stored completely or not at all", len(changes), board.MaxOps)
	}
	all, _, err := s.b.All(ctx, "")
	if err != nil {
		return 0, err
	}
	now := map[string]pantry.Entry{}
	for _, e := range all {
		now[e.Name] = e
	}
	var edits []entry.Edit
	for _, c := range changes {
		e := now[c.Name]
		if !value.Equal(e.Value, c.Old) {
			return 0, meanwhile(c.Name)
		}
		edit := put(c.Name, c.New)
		if c.New.IsZero() {
			edit = drop(c.Name)
		}
		edits = append(edits, edit.If(e.Version, e.Updated))
	}
	done, err := s.Commit(ctx, edits)
	return done.Version, err
}

// Replaced does nothing: a board's versions continue, and its server says if they don't.
func (s *shared) Replaced() error { return nil }

func (s *shared) Withdraw(ctx context.Context, name string) (k entry.Declared, version int64, err error) {
	keys, _, err := s.keys(ctx)
	if err != nil {
		return k, 0, err
	}
	k, _ = entry.Among(keys)(name)
	if err = s.b.WithdrawKey(ctx, name); err == nil {
		_, version, err = s.b.All(ctx, name+"/")
	}
	return k, version, err
}

func (s *shared) CloseKeys(ctx context.Context, closed bool) (int64, error) {
	if closed {
		return s.b.CloseKeys(ctx)
	}
	return s.b.OpenKeys(ctx)
}

// Restore lets the server do it, which can restore more names than a commit could list.
func (s *shared) Restore(ctx context.Context, when When, names []string, _ []entry.Change, force bool) (int64, error) {
	if err := unforced(force); err != nil {
		return 0, err
	}
	back := board.Restore{Time: when.time, Names: names}
	back.Version, _ = when.Version()
	if len(names) == 0 {
		back.Prefix = new(string)
	}
	done, err := s.b.Commit(ctx, board.Op{Restore: &back})
	return done.Version, err
}
