package board

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/wire"
)

// A CommitInfo is a commit as the board still tells it: Version, Time (by the
// server's clock), By and From (which app, and which of its copies), and its Changes;
// or a restore point, which stands for so many commits as Over says.
type CommitInfo = entry.Commit

// A Change is what a commit did to one entry: its Name, and what it held, Old,
// and holds, New. A value whose IsZero is true means that nothing was stored.
type Change = entry.Change

// History asks the server for the newest commits that it keeps, newest first:
// at most limit of them (0: 1,000), and only what they did to the names, if any are
// given.
func (b *Board) History(ctx context.Context, limit int, names ...string) ([]CommitInfo, error) {
	query := url.Values{"name": names}
	if limit > 0 {
		query.Set("limit", strconv.Itoa(limit))
	}
	got, err := b.send(ctx, request{op: "history", method: http.MethodGet, path: "/history", query: query})
	if err != nil {
		return nil, b.fail("read the history of", "", err)
	}
	h, err := wire.ReadHistory(got.body)
	if err == nil {
		err = b.ours(h.Board)
	}
	if err != nil {
		return nil, b.fail("read the history of", "", unexpected(err))
	}
	return h.Commits, nil
}

// EntriesAt asks the server for the entries as they were at a version, by the
// byte order of their names. The error is pantry.ErrTooOld for a version that it
// does not keep.
func (b *Board) EntriesAt(ctx context.Context, version int64) ([]Entry, error) {
	page, err := b.list(ctx, request{op: "list", query: url.Values{"at": {strconv.FormatInt(version, 10)}}}, "")
	return page.Entries, err
}

// EntriesAtTime asks the server for the entries as they were at a time by its
// clock, by the byte order of their names, and for the newest version then, as far
// as it still tells: a commit of those that it keeps, or one in each minute of the
// last hour, each hour of two days and each day of thirty. The error is
// pantry.ErrTooOld for a time of which it tells nothing.
func (b *Board) EntriesAtTime(ctx context.Context, t time.Time) (entries []Entry, version int64, err error) {
	page, err := b.list(ctx, request{op: "list", query: url.Values{"at": {entry.FormatTime(t)}}}, "")
	return page.Entries, page.Version, err
}
