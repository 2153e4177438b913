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

func (s *shared) add(ctx context.Context, name string, amount, start value.Value) (board.Entry, error) {
	return s.b.Add(ctx, name, board.AddTo{Amount: amount, Start: start})
}

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
