package main

import (
	"context"
	"fmt"
	"iter"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

// shared is a board as a place.
type shared struct {
	b       *board.Board
	address string
}

func (s *shared) where() string { return s.address }
func (s *shared) Close() error  { return s.b.Close() }

func (s *shared) get(ctx context.Context, name string) (board.Entry, bool, error) {
	return s.b.Entry(ctx, name)
}

func (s *shared) put(ctx context.Context, name, typed string, o putOptions) (board.Entry, error) {
	var conditions []board.Condition
	if o.kind != value.KindNone {
		conditions = append(conditions, board.AsKind(o.kind))
	}
	if o.ifVersion >= 0 {
		conditions = append(conditions, board.IfVersion(o.ifVersion))
	}
	return s.b.PutTyped(ctx, name, typed, conditions...)
}

func (s *shared) operate(ctx context.Context, name string, o operation) (board.Entry, error) {
	switch o.op {
	case "raise":
		return s.b.Raise(ctx, name, o.operand)
	case "lower":
		return s.b.Lower(ctx, name, o.operand)
	case "append":
		return s.b.Append(ctx, name, o.operand, o.keep, o.unique)
	case "remove":
		return s.b.Remove(ctx, name, o.operand)
	}
	return s.b.Add(ctx, name, board.AddTo{Amount: o.operand, Start: o.start})
}

func (s *shared) rename(ctx context.Context, from, to string) (board.Entry, error) {
	e, found, err := s.b.Entry(ctx, from)
	if err != nil {
		return e, err
	}
	if !found {
		return e, exitError{exitAbsent, fmt.Sprintf("nothing is stored under %s in %s", from, s.address)}
	}
	if from == to {
		return e, nil
	}
	if _, err = s.b.Commit(ctx, board.PutNamed(to, e.Value).If(0), board.DropNamed(from).If(e.Version)); err != nil {
		return e, err
	}
	e, _, err = s.b.Entry(ctx, to)
	return e, err
}

func (s *shared) reset(ctx context.Context) (int64, []string, error) {
	gone := []string{}
	for e, err := range s.b.Entries(ctx, "") {
		if err != nil {
			return 0, nil, err
		}
		gone = append(gone, e.Name)
	}
	version, err := s.b.Commit(ctx, board.DropPrefix(""))
	return version, gone, err
}

func (s *shared) history(ctx context.Context, limit int, names []string) ([]board.CommitInfo, error) {
	return s.b.History(ctx, limit, names...)
}

func (s *shared) at(ctx context.Context, version int64) ([]board.Entry, error) {
	return s.b.AllAt(ctx, version)
}

func (s *shared) apply(ctx context.Context, changes []board.Change) (int64, error) {
	if len(changes) > board.MaxOps {
		return 0, exitError{exitFailed, fmt.Sprintf("it would change %d entries, and a board takes %d in one commit; nothing was changed\n  Do it in parts, each of which is stored whole or not at all.", len(changes), board.MaxOps)}
	}
	now := map[string]board.Entry{}
	for e, err := range s.b.Entries(ctx, "") {
		if err != nil {
			return 0, err
		}
		now[e.Name] = e
	}
	var ops []board.Op
	for _, c := range changes {
		e := now[c.Name]
		switch {
		case !value.Equal(e.Value, c.Old):
			return 0, fmt.Errorf("%w: %s was changed meanwhile", pantry.ErrConflict, c.Name)
		case c.New.IsZero():
			ops = append(ops, board.DropNamed(c.Name).If(e.Version))
		default:
			ops = append(ops, board.PutNamed(c.Name, c.New).If(e.Version))
		}
	}
	return s.b.Commit(ctx, ops...)
}

// replaced: the versions of a board go on, and its server says when they don't.
func (s *shared) replaced() error { return nil }

func (s *shared) rm(ctx context.Context, names []string) (int64, error) {
	return s.b.Drop(ctx, names...)
}

func (s *shared) list(ctx context.Context, prefix string) (listing, error) {
	l := listing{Place: s.address, Entries: []board.Entry{}, Declared: []pantry.DeclaredKey{}}
	entries, version, err := s.b.All(ctx, prefix)
	l.Version = version
	l.Entries = append(l.Entries, entries...)
	return l, err
}

func (s *shared) watch(ctx context.Context, names []string) iter.Seq2[change, error] {
	return func(yield func(change, error) bool) {
		first, cancel := context.WithTimeout(ctx, patience)
		err := s.b.Ready(first)
		cancel()
		if err != nil {
			if ctx.Err() == nil {
				yield(change{}, err)
			}
			return
		}
		for changed := range s.b.WatchNames(ctx, names...) {
			for _, name := range changed {
				e, found := s.b.Known(name)
				e.Name = name
				if !yield(change{e, !found}, nil) {
					return
				}
			}
		}
		if ctx.Err() == nil {
			yield(change{}, fmt.Errorf("the board was closed"))
		}
	}
}
