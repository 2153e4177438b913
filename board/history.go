package board

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/wire"
)

// History requests the newest commits, newest first: at most limit of them (0 means 1,000), and
// only their changes of the names, if there are any.
func (b *Board) History(ctx context.Context, limit int, names ...string) ([]pantry.CommitInfo, error) {
	if limit <= 0 {
		limit = 1000
	}
	var all []pantry.CommitInfo
	for before := int64(0); ; {
		h, err := b.history(ctx, limit-len(all), before, names)
		if err != nil {
			return nil, err
		}
		for _, c := range h.Commits {
			all = append(all, commitInfo(c))
		}
		if before = h.Next; before == 0 || len(all) >= limit {
			return all, nil
		}
	}
}

func commitInfo(c entry.Commit) pantry.CommitInfo {
	info := pantry.CommitInfo{Version: c.Version, Time: c.Time, By: c.By, From: c.From, Over: c.Over, Changes: make([]pantry.Change, len(c.Changes))}
	for i, change := range c.Changes {
		info.Changes[i] = pantry.Change(change)
	}
	return info
}

func appendEntries(to []pantry.Entry, all []entry.Entry) []pantry.Entry {
	for _, e := range all {
		to = append(to, pantry.Entry(e))
	}
	return to
}

// history requests as much of it as one answer holds.
func (b *Board) history(ctx context.Context, limit int, before int64, names []string) (*wire.History, error) {
	query := url.Values{"name": names, "limit": {strconv.Itoa(limit)}}
	if before > 0 {
		query.Set("before", strconv.FormatInt(before, 10))
	}
	got, err := b.conn.send(ctx, request{op: "history", method: http.MethodGet, path: "/history", query: query})
	if err != nil {
		return nil, b.conn.fail("read the history of", "", err)
	}
	h, err := wire.ReadHistory(got.body)
	if err == nil {
		err = b.conn.ours(h.Board)
	}
	if err == nil && h.Next > 0 && len(h.Commits) == 0 {
		err = errors.New("it announces more commits, and has none")
	}
	if err != nil {
		return nil, b.conn.fail("read the history of", "", unexpected(err))
	}
	return h, nil
}

// EntriesAt requests the entries as they were at a version, sorted by the bytes of their names. The
// error is pantry.ErrTooOld for a version that is no longer in the history.
func (b *Board) EntriesAt(ctx context.Context, version int64) ([]pantry.Entry, error) {
	entries, _, err := b.at(ctx, strconv.FormatInt(version, 10))
	return entries, err
}

// at requests the entries as they were, page by page, all as of the version of the first.
func (b *Board) at(ctx context.Context, when string) (entries []pantry.Entry, version int64, err error) {
	query := url.Values{"at": {when}}
	for page, err := range b.pages(ctx, query) {
		if err != nil {
			return nil, 0, err
		}
		entries, version = appendEntries(entries, page.Entries), page.Version
		query.Set("at", strconv.FormatInt(version, 10))
	}
	return entries, version, nil
}

// EntriesAtTime requests the entries as they were at a time by the server's clock, sorted by the
// bytes of their names, and the newest version then, as far as the history has it: a single commit,
// or one in each minute of the last hour, each hour of two days and each day of thirty. The error
// is pantry.ErrTooOld for a time before the history.
func (b *Board) EntriesAtTime(ctx context.Context, t time.Time) (entries []pantry.Entry, version int64, err error) {
	return b.at(ctx, entry.FormatTime(t))
}
