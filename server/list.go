package server

import (
	"context"
	"fmt"
	"hash/fnv"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

const (
	defaultLimit = 1000
	maxLimit     = 10_000
	maxPage      = 4 << 20 // bytes
	maxWait      = 60      // seconds
)

// listBoards answers with the boards, of which it loads none.
func (c *call) listBoards() error {
	if _, err := c.query(); err != nil {
		return err
	}
	infos, err := c.s.store.Boards(c.r.Context(), "", 0)
	if err != nil {
		return err
	}
	boards := make([]wire.Summary, len(infos))
	for i, info := range infos {
		boards[i] = wire.Summary(info)
	}
	return c.answer(http.StatusOK, wire.AppendSummaries(nil, boards))
}

// A query is what a list of entries is asked for.
type query struct {
	names    []string
	prefix   string
	since    string // a mark or a version
	hasSince bool
	wait     time.Duration
	bare     bool // names only
	limit    int
	after    string
}

func readQuery(u url.Values) (q query, err error) {
	q = query{names: u["name"], prefix: u.Get("prefix"), since: u.Get("since"), hasSince: u.Has("since"), after: u.Get("after")}
	for _, name := range q.names {
		if err := entry.CheckName(name); err != nil {
			return q, err
		}
	}
	if q.limit, err = readLimit(u.Get("limit")); err != nil {
		return q, err
	}
	if s := u.Get("wait"); s != "" {
		seconds, err := strconv.ParseFloat(s, 64)
		if err != nil || !(seconds >= 0 && seconds <= maxWait) {
			return q, wire.Refuse(wire.Invalid, "wait is %s, and must be a number of seconds, at most %d", scan.Quote(s), maxWait)
		}
		q.wait = time.Duration(seconds * float64(time.Second))
	}
	if s := u.Get("names"); s != "" {
		if q.bare, err = strconv.ParseBool(s); err != nil {
			return q, wire.Refuse(wire.Invalid, "names is %s, and must be true or false", scan.Quote(s))
		}
	}
	return q, nil
}

// readLimit reads how many are asked for at most.
func readLimit(s string) (int, error) {
	if s == "" {
		return defaultLimit, nil
	}
	limit, err := strconv.Atoi(s)
	if err != nil || limit < 1 || limit > maxLimit {
		return 0, wire.Refuse(wire.Invalid, "limit is %s, and must be from 1 to %d", scan.Quote(s), maxLimit)
	}
	return limit, nil
}

// hash tells two queries apart in an ETag: all but since and wait.
func (q query) hash() string {
	h := fnv.New32a()
	names := slices.Clone(q.names)
	slices.Sort(names)
	fmt.Fprintf(h, "%q %q %v %d %q", names, q.prefix, q.bare, q.limit, q.after)
	return strconv.FormatUint(uint64(h.Sum32()), 36)
}

// mark is where a reader stands who has taken in all up to a version.
func (s *Server) mark(version int64) string { return fmt.Sprintf("%d.%s", version, s.lineage) }

// version reads since: the version after which changes are wanted, or whole
// where only that will do, since the mark is of another lineage or beyond what
// can be told.
func (q query) version(lineage string, now, oldest int64) (version int64, whole bool, err error) {
	if !q.hasSince {
		return 0, true, nil
	}
	number, line, isMark := strings.Cut(q.since, ".")
	version, err = strconv.ParseInt(number, 10, 64)
	if err != nil || version < 0 {
		return 0, false, wire.Refuse(wire.Invalid, "since is %s, and must be a mark from an answer, or a version", scan.Quote(q.since))
	}
	if isMark && line != lineage || version > now || version < oldest {
		return 0, true, nil
	}
	return version, false, nil
}

func (c *call) listEntries() error {
	if u, err := c.query("at"); err == nil && u.Has("at") {
		return c.entriesAt(u.Get("at"))
	}
	u, err := c.query("name", "prefix", "since", "wait", "names", "limit", "after")
	if err != nil {
		return err
	}
	q, err := readQuery(u)
	if err != nil {
		return err
	}
	l, err := c.ledger(false)
	if err != nil {
		return err
	}
	if l == nil {
		return c.answerPage(q, wire.Page{Board: c.board, Mark: c.s.mark(0), Whole: true}, false)
	}
	var prefixes []string
	if q.prefix != "" || len(q.names) == 0 {
		prefixes = []string{q.prefix}
	}
	w := l.Watch(q.names, prefixes)
	defer w.Close()
	ctx, cancel := context.WithTimeout(c.r.Context(), q.wait)
	defer cancel()
	for {
		page, err := c.page(l, q)
		if err != nil {
			return err
		}
		news := page.Whole || len(page.Entries)+len(page.Gone) > 0
		if q.wait == 0 || news && !c.has(q, page) || !w.Wait(ctx, c.s.stopping) {
			return c.answerPage(q, page, !news && q.wait > 0)
		}
	}
}

// page collects what is asked for as of one moment.
func (c *call) page(l *ledger.Ledger, q query) (page wire.Page, err error) {
	snap := l.Snapshot()
	defer snap.Release()
	since, whole, err := q.version(c.s.lineage, snap.Version, l.Oldest())
	if err != nil {
		return page, err
	}
	page = wire.Page{Board: l.Name(), Version: snap.Version, Mark: c.s.mark(snap.Version), Whole: whole}
	if !whole {
		page.Since = c.s.mark(since)
	}
	size, count, newest := 0, 0, ""
	for e := range q.selected(snap, since) {
		if !e.Found() && whole {
			continue
		}
		if count == q.limit || size > maxPage {
			page.Next = newest
			break
		}
		count++
		newest = e.Name
		if !e.Found() {
			page.Gone = append(page.Gone, entry.Gone{Name: e.Name, Version: e.Version})
			continue
		}
		if !q.bare {
			size += len(e.Name) + e.Value.Len() + 100
		}
		page.Entries = append(page.Entries, e.Entry())
	}
	return page, nil
}

// selected gives the names that are asked for and changed after version, by
// byte order, removed ones too.
func (q query) selected(snap *ledger.Snapshot, version int64) iter.Seq[ledger.Named] {
	if len(q.names) == 0 {
		return snap.Changed(version, q.prefix, q.after)
	}
	return func(yield func(ledger.Named) bool) {
		names := slices.Clone(q.names)
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			rec := snap.Record(name)
			skip := rec.Version == 0 || rec.Version <= version || q.after != "" && name <= q.after ||
				!strings.HasPrefix(name, q.prefix)
			if !skip && !yield(ledger.Named{Name: name, Record: rec}) {
				return
			}
		}
	}
}

// tag is the entity tag of a page, weak since a page is put together anew.
func (c *call) tag(q query, p wire.Page) string {
	return fmt.Sprintf(`W/"%s.%s"`, p.Mark, q.hash())
}

// has says whether the client has the page already.
func (c *call) has(q query, p wire.Page) bool {
	for _, line := range c.r.Header.Values("If-None-Match") {
		for tag := range strings.SplitSeq(line, ",") {
			if strings.TrimPrefix(strings.TrimSpace(tag), "W/") == strings.TrimPrefix(c.tag(q, p), "W/") {
				return true
			}
		}
	}
	return false
}

// answerPage answers with the page, or with 304 where the client has it or,
// with quiet, where it waited for news in vain.
func (c *call) answerPage(q query, p wire.Page, quiet bool) error {
	c.w.Header().Set("ETag", c.tag(q, p))
	if c.has(q, p) || quiet && c.r.Header.Get("If-None-Match") != "" {
		c.w.WriteHeader(http.StatusNotModified)
		return nil
	}
	return c.answer(http.StatusOK, p.AppendJSON(nil, q.bare))
}
