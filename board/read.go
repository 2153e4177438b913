package board

import (
	"cmp"
	"context"
	"errors"
	"iter"
	"net/http"
	"net/url"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

// A listPage is the answer to a list; with 304 the page is nil.
type listPage struct {
	*wire.Page
	tag string
}

// list requests a page of this board.
func (c *connection) list(ctx context.Context, rq request, tag string) (page listPage, err error) {
	rq.method, rq.path = http.MethodGet, "/entries"
	if tag != "" {
		rq.header = http.Header{"If-None-Match": {tag}}
	}
	page.Page = &wire.Page{}
	got, err := c.send(ctx, rq)
	if err != nil {
		return page, c.fail(rq.op, "", err)
	}
	page.tag = got.header.Get("ETag")
	switch {
	case got.status == http.StatusNotModified && tag != "":
		return listPage{nil, page.tag}, nil
	case got.status == http.StatusNotModified:
		err = unexpected(errors.New("it is 304, and nothing was known"))
	default:
		page.Page, err = c.readPage(got.body)
	}
	if err != nil {
		page.Page = &wire.Page{}
	}
	return page, c.fail(rq.op, "", err)
}

// Entry requests an entry from the server.
func (b *Board) Entry(ctx context.Context, name string) (e pantry.Entry, found bool, err error) {
	now, found, err := b.fetch(ctx, name)
	return pantry.Entry(now), found, err
}

// fetch is Entry.
func (b *Board) fetch(ctx context.Context, name string) (e entry.Entry, found bool, err error) {
	if err := pantry.CheckName(name); err != nil {
		return entry.Entry{}, false, b.conn.fail("get", name, err)
	}
	got, err := b.conn.send(ctx, request{op: "get", method: http.MethodGet, path: entryPath(name)})
	if err == nil {
		if bad := e.UnmarshalJSON(got.body); bad != nil || e.Name != name {
			err = unexpected(cmp.Or(bad, errors.New("it is of another entry")))
		}
	}
	if errors.Is(err, pantry.ErrAbsent) {
		var e *Error
		if errors.As(err, &e) && len(e.near) > 0 {
			for _, near := range e.near {
				b.report.nearNames([]rules.Near{{Name: name, Near: near}})
			}
		}
		return entry.Entry{Name: name}, false, nil
	}
	if err != nil {
		return entry.Entry{}, false, b.conn.fail("get", name, err)
	}
	return e, true, nil
}

// Entries requests the entries whose names begin with prefix, sorted by the bytes of their names,
// page by page.
func (b *Board) Entries(ctx context.Context, prefix string) iter.Seq2[pantry.Entry, error] {
	return func(yield func(pantry.Entry, error) bool) {
		for page, err := range b.pages(ctx, withPrefix(prefix)) {
			if err != nil {
				yield(pantry.Entry{}, err)
				return
			}
			for _, e := range page.Entries {
				if !yield(pantry.Entry(e), nil) {
					return
				}
			}
		}
	}
}

// All returns Entries as a slice, with the version of the board in the first page.
func (b *Board) All(ctx context.Context, prefix string) (entries []pantry.Entry, version int64, err error) {
	version = -1
	for page, err := range b.pages(ctx, withPrefix(prefix)) {
		if err != nil {
			return nil, 0, err
		}
		if version < 0 {
			version = page.Version
		}
		entries = appendEntries(entries, page.Entries)
	}
	return entries, version, nil
}

func withPrefix(prefix string) url.Values {
	if prefix == "" {
		return url.Values{}
	}
	return url.Values{"prefix": {prefix}}
}

// pages iterates over the pages of a list. There is at least one.
func (b *Board) pages(ctx context.Context, query url.Values) iter.Seq2[listPage, error] {
	return func(yield func(listPage, error) bool) {
		for {
			page, err := b.conn.list(ctx, request{op: "list", query: query}, "")
			if !yield(page, err) || err != nil || page.Next == "" {
				return
			}
			query.Set("after", page.Next)
		}
	}
}
