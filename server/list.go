package server

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/admission"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

const (
	maxLimit = 10_000
	maxWait  = 60 // seconds

	maxNames    = 1000 // in a query
	maxPrefixes = 100  // after those covered by others are removed
)

// readQuery reads the selection of a board's entries from a query.
func readQuery(u url.Values) (q rules.Query, err error) {
	q = rules.Query{Names: u["name"], Prefixes: ledger.Outermost(u["prefix"]), After: u.Get("after")}
	switch {
	case len(q.Names) > maxNames:
		return q, wire.Refuse(wire.Invalid, "%d names are requested, and the limit is %d: request a prefix, or the whole board", len(q.Names), maxNames)
	case len(q.Prefixes) > maxPrefixes:
		return q, wire.Refuse(wire.Invalid, "%d prefixes are requested, and the limit is %d: request the whole board", len(q.Prefixes), maxPrefixes)
	}
	for _, name := range q.Names {
		if err := entry.CheckName(name); err != nil {
			return q, err
		}
	}
	q.Names = slices.Compact(slices.Sorted(slices.Values(q.Names)))
	if len(q.Prefixes) == 1 && q.Prefixes[0] == "" && len(q.Names) == 0 {
		q.Prefixes = nil
	}
	for _, since := range u["since"] {
		m, err := mark.Parse(since)
		if err != nil {
			return q, err
		}
		q.Since = append(q.Since, m)
	}
	if q.Limit, err = readLimit(u.Get("limit")); err != nil {
		return q, err
	}
	q.Bare, err = isTrue(u, "names")
	return q, err
}

// selection is readQuery, limited to what the caller can read.
func (c *call) selection(u url.Values) (rules.Query, error) {
	q, err := readQuery(u)
	if err == nil {
		err = c.grant.Narrow(&q)
	}
	return q, err
}

// readLimit reads the maximum number of entries.
func readLimit(s string) (int, error) {
	if s == "" {
		return rules.DefaultLimit, nil
	}
	limit, err := strconv.Atoi(s)
	if err != nil || limit < 1 || limit > maxLimit {
		return 0, wire.Refuse(wire.Invalid, "limit is %s, and must be from 1 to %d", scan.Quote(s), maxLimit)
	}
	return limit, nil
}

func readWait(s string) (time.Duration, error) {
	if s == "" {
		return 0, nil
	}
	seconds, err := strconv.ParseFloat(s, 64)
	if err != nil || !(seconds >= 0 && seconds <= maxWait) {
		return 0, wire.Refuse(wire.Invalid, "wait is %s, and must be a number of seconds, at most %d", scan.Quote(s), maxWait)
	}
	return time.Duration(seconds * float64(time.Second)), nil
}

// A follower reads a board, which need not exist yet, and waits for changes.
type follower struct {
	c *call
	q rules.Query
	l *ledger.Ledger // nil if there is none
	w *ledger.Watcher

	waits bool // for changes, so that none is missed
	turns bool // a large page waits for a turn

	release func()
	made    <-chan struct{} // if there is no board: closed when one is created
	memory  *admission.Hold // for the page that is being written
}

// follow returns a follower of the call's board. One that waits counts as a stream, and ends with
// the caller's token.
func (c *call) follow(q rules.Query, waits bool) (*follower, error) {
	f := &follower{c: c, q: q, waits: waits}
	if waits {
		if err := c.hold(c.s.resources.streams, 1, streaming); err != nil {
			return nil, err
		}
		if c.holder != nil {
			ctx, done := c.holder.While(c.r.Context())
			c.r, c.free = c.r.WithContext(ctx), append(c.free, done)
		}
	}
	return f, f.open()
}

// open looks for the board if there was none.
func (f *follower) open() error {
	if f.l != nil {
		return nil
	}
	l, release, err := f.c.find(false)
	if err == nil && l == nil { // one that is created meanwhile must not be missed
		f.made = f.c.s.store.News()
		l, release, err = f.c.find(false)
	}
	if err != nil || l == nil {
		return err
	}
	if f.l, f.release = l, release; f.waits {
		f.w = l.Watch(f.q.Names, f.q.Prefixes)
	}
	return nil
}

// close releases the board.
func (f *follower) close() {
	if f.l != nil {
		if f.w != nil {
			f.w.Close()
		}
		f.release()
		f.l = nil
	}
}

// read returns a page.
func (f *follower) read() (rules.Page, error) {
	if err := f.open(); err != nil {
		return rules.Page{}, err
	}
	if f.l == nil {
		return f.q.OnNothing(f.c.board)
	}
	if err := f.current(f.q.Since...); err != nil {
		return rules.Page{}, err
	}
	if err := f.reserve(); err != nil {
		return rules.Page{}, err
	}
	return f.q.Read(f.l)
}

// reserve takes memory for the page that is read next, until release. For a page that is large, or of many names, it
// first waits for a turn if f.turns is set.
func (f *follower) reserve() error {
	if f.memory == nil {
		f.memory = f.c.s.resources.answers.Hold(f.c.who())
		f.c.free = append(f.c.free, f.memory.Release)
	}
	size := f.q.Size(f.l, largePage)
	large := size > largePage
	if f.turns && f.c.rec.before == nil && (large || len(f.q.Names) > manyNames) {
		if err := f.c.takeTurn(); err != nil {
			return err
		}
	}
	if large {
		size = min(f.q.Size(f.l, rules.MaxPage), rules.MaxPage)
	}
	if more := int64(size) - f.memory.Size(); more > 0 {
		return overShare(f.memory.Grow(more), "bytes of answers")
	}
	return nil
}

// manyNames is how many names a call can ask for without a turn. For each that is absent, near ones are looked for.
const manyNames = 20

// current makes the next read return the newest state. For a reader that asks what came after
// marks, the state of this server is enough if it is not older than the marks, because news arrives
// by itself.
func (f *follower) current(after ...mark.Mark) error {
	if len(after) == 0 {
		return f.l.Current(f.c.r.Context())
	}
	version := int64(0)
	for _, m := range after {
		version = max(version, m.Version)
	}
	return f.l.Reach(f.c.r.Context(), version)
}

// unchanged reports whether nothing changed since a mark, and returns the current mark.
func (f *follower) unchanged(m mark.Mark) (now mark.Mark, unchanged bool, err error) {
	if err := f.open(); err != nil {
		return now, false, err
	}
	if f.l == nil {
		return rules.NoBoard, m == rules.NoBoard, nil
	}
	if err := f.current(m); err != nil {
		return now, false, err
	}
	now, unchanged = f.q.Unchanged(f.l, m)
	return now, unchanged, nil
}

// removed reports whether a wait ended because the board was removed.
func (f *follower) removed(ctx context.Context) bool {
	select {
	case <-f.c.s.stopping:
		return false
	default:
		return f.l != nil && ctx.Err() == nil
	}
}

// wait waits until something can have changed. It returns false if the context or the server ended,
// or the board was removed.
func (f *follower) wait(ctx context.Context) bool {
	if f.l != nil {
		return f.w.Wait(ctx, f.c.s.stopping)
	}
	select {
	case <-f.made:
		return true
	case <-ctx.Done():
	case <-f.c.s.stopping:
	}
	return false
}

func (c *call) listEntries() error {
	if c.r.URL.RawQuery != "" && c.r.URL.Query().Has("at") {
		return c.entriesAt()
	}
	u, err := c.query("name*", "prefix*", "since*", "wait", "names", "limit", "after")
	if err != nil {
		return err
	}
	q, err := c.selection(u)
	if err != nil {
		return err
	}
	wait, err := readWait(u.Get("wait"))
	if err != nil {
		return err
	}
	f, err := c.follow(q, wait > 0)
	if err != nil {
		return err
	}
	defer f.close()
	f.turns = true
	ctx := c.r.Context()
	if wait > 0 { // which can be longer than a request has to arrive
		out := http.NewResponseController(c.w)
		if err := errors.Join(out.SetReadDeadline(time.Time{}), out.SetWriteDeadline(time.Time{})); err != nil {
			return err
		}
		c.streams = true
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, wait)
		defer cancel()
	}
	return c.answerList(ctx, f, wait > 0)
}

// answerList answers with the list of a follower. With waits, it waits for news until ctx ends.
func (c *call) answerList(ctx context.Context, f *follower, waits bool) error {
	hash := f.q.Hash()
	held := c.held(hash)
	for {
		now, same, err := f.unchangedSince(held)
		if err != nil {
			return err
		}
		var page rules.Page
		if !same {
			if page, err = f.read(); err != nil {
				return err
			}
		}
		news := page.Whole || len(page.Entries)+len(page.Gone)+len(page.Findings) > 0
		if !news && waits {
			c.leaveTurn()
			if f.wait(ctx) {
				continue
			}
			if err := access.Ended(c.r.Context()); err != nil {
				return err
			}
			if f.removed(ctx) { // that is a change
				f.close()
				continue
			}
		}
		if !same {
			now, _ = mark.Parse(page.Mark)
		}
		c.listTag(now, hash)
		if same || !news && len(held) > 0 {
			c.w.WriteHeader(http.StatusNotModified)
			return nil
		}
		return c.answerPage(http.StatusOK, page, f.q.Bare)
	}
}

// A listTag is the entity tag of a list. It is kept for the row "conditional GET of an unchanged list" in
// docs/benchmarks.md: without it, that call allocates 32 times in place of 29.
type listTag struct {
	mark mark.Mark
	hash string
	text []string // as in a header
}

// listTag sets the entity tag of a list in the answer.
func (c *call) listTag(m mark.Mark, hash string) {
	last := c.way.tag.Load()
	if last == nil || last.mark != m || last.hash != hash {
		last = &listTag{m, hash, []string{m.EntityTag(hash)}}
		c.way.tag.Store(last)
	}
	c.w.Header()["Etag"] = last.text
}

// held returns the marks at which the client has the result of the query.
func (c *call) held(hash string) (held []mark.Mark) {
	if last := c.way.tag.Load(); last != nil && last.hash == hash && slices.Equal(c.r.Header["If-None-Match"], last.text) {
		return []mark.Mark{last.mark}
	}
	for _, line := range c.r.Header["If-None-Match"] {
		for tag := range strings.SplitSeq(line, ",") {
			if m, query, err := mark.InTag(strings.TrimSpace(tag)); err == nil && query == hash {
				held = append(held, m)
			}
		}
	}
	return held
}

// unchangedSince is unchanged for the first of several marks since which nothing has changed.
func (f *follower) unchangedSince(marks []mark.Mark) (now mark.Mark, same bool, err error) {
	for _, m := range marks {
		if now, same, err = f.unchanged(m); same || err != nil {
			return now, same, err
		}
	}
	return now, false, nil
}
