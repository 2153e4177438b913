package main

import (
	"context"
	"iter"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/board"
)

// past is a place as it was at a version: it can be read only.
type past struct {
	place
	version int64
}

func (p *past) get(ctx context.Context, name string) (board.Entry, bool, error) {
	entries, err := p.place.at(ctx, p.version)
	if i := slices.IndexFunc(entries, func(e board.Entry) bool { return e.Name == name }); i >= 0 {
		return entries[i], true, err
	}
	return board.Entry{Name: name}, false, err
}

func (p *past) list(ctx context.Context, prefix string) (listing, error) {
	l, err := p.place.list(ctx, prefix)
	if err != nil {
		return l, err
	}
	l.Version = p.version
	l.Entries, err = p.place.at(ctx, p.version)
	l.Entries = slices.DeleteFunc(l.Entries, func(e board.Entry) bool { return !strings.HasPrefix(e.Name, prefix) })
	if l.Entries == nil {
		l.Entries = []board.Entry{}
	}
	return l, err
}

func (p *past) watch(context.Context, []string) iter.Seq2[change, error] {
	return func(yield func(change, error) bool) {
		yield(change{}, usage("what was at version %d does not change any more; watch the place without @%d", p.version, p.version))
	}
}
