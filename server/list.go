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

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

const (
	defaultLimit = 1000
	maxLimit     = 10_000
	maxPage      = 4 << 20 // bytes
	maxWait      = 60 * time.Second
)

// A query is what a list of entries is asked for.
type query struct {
	names    []string
	prefix   string
	since    string // a cursor or a version
	hasSince bool
	wait     time.Duration
	bare     bool // names only
	limit    int
	after    string
}

func readQuery(u url.Values) (q query, err error) {
	if err := onlyKeys(u, "name", "prefix", "since", "wait", "names", "limit", "after"); err != nil {
		return q, err
	}
	q = query{names: u["name"], prefix: u.Get("prefix"), since: u.Get("since"), hasSince: u.Has("since"), limit: defaultLimit, after: u.Get("after")}
	for _, name := range q.names {
		if err := ledger.CheckName(name); err != nil {
			return q, err
		}
	}
	if s := u.Get("limit"); s != "" {
		if q.limit, err = strconv.Atoi(s); err != nil || q.limit < 1 || q.limit > maxLimit {
			return q, refuse("invalid", "limit is %s, and must be from 1 to %d", value.Quote(s), maxLimit)
		}
	}
	if s := u.Get("wait"); s != "" {
		if q.wait, err = time.ParseDuration(s); err != nil || q.wait < 0 || q.wait > maxWait {
			return q, refuse("invalid", "wait is %s, and must be a time such as 30s, at most %v", value.Quote(s), maxWait)
		}
	}
	if s := u.Get("names"); s != "" {
		if q.bare, err = strconv.ParseBool(s); err != nil {
			return q, refuse("invalid", "names is %s, and must be true or false", value.Quote(s))
		}
	}
	return q, nil
}

// hash tells two queries apart in an ETag: all but since and wait.
func (q query) hash() string {
	h := fnv.New32a()
	names := slices.Clone(q.names)
	slices.Sort(names)
	fmt.Fprintf(h, "%q %q %v %d %q", names, q.prefix, q.bare, q.limit, q.after)
	return strconv.FormatUint(uint64(h.Sum32()), 36)
}

// version reads since: the version after which changes are wanted, or reset
// where only the whole will do, since the cursor is of another lineage or
// beyond what can be told.
func (q query) version(lineage string, now, oldest int64) (version int64, reset bool, err error) {
	if !q.hasSince {
		return 0, false, nil
	}
	number, line, isCursor := strings.Cut(q.since, ".")
	version, err = strconv.ParseInt(number, 10, 64)
	if err != nil || version < 0 {
		return 0, false, refuse("invalid", "since is %s, and must be a cursor from an answer, or a version", value.Quote(q.since))
	}
	if isCursor && line != lineage || version > now || version < oldest {
		return 0, true, nil
	}
	return version, false, nil
}

type goneBody struct {
	Name    string `json:"name"`
	Version int64  `json:"version"`
}

type listBody struct {
	Board   string      `json:"board"`
	Version int64       `json:"version"`
	Cursor  string      `json:"cursor"`
	Entries []entryBody `json:"entries"`
	Gone    []goneBody  `json:"gone"`
	Reset   bool        `json:"reset"`
	Next    string      `json:"next,omitempty"`
}

func (s *Server) listEntries(c *call) error {
	if u := c.r.URL.Query(); u.Has("at") {
		return s.entriesAt(c, u)
	}
	q, err := readQuery(c.r.URL.Query())
	if err != nil {
		return err
	}
	b, err := s.boards.get(c.board, false)
	if err != nil {
		return err
	}
	if b == nil {
		return s.answerList(c, q, listBody{Board: c.board, Entries: []entryBody{}, Gone: []goneBody{}}, 0, true)
	}
	var prefixes []string
	if q.prefix != "" || len(q.names) == 0 {
		prefixes = []string{q.prefix}
	}
	w := b.Watch(q.names, prefixes)
	defer w.Close()
	ctx, cancel := context.WithTimeout(c.r.Context(), q.wait)
	defer cancel()
	for {
		body, since, err := s.list(b, q)
		if err != nil {
			return err
		}
		news := len(body.Entries) > 0 || len(body.Gone) > 0 || body.Reset || !q.hasSince
		conditional := c.r.Header.Get("If-None-Match") != ""
		unchanged := conditional && s.sameList(c, q, body.Version)
		if q.wait == 0 || news && !unchanged || !w.Wait(ctx, s.stopping) {
			return s.answerList(c, q, body, since, !news && q.wait > 0)
		}
	}
}

// list collects what is asked for as of one moment.
func (s *Server) list(b *ledger.Ledger, q query) (body listBody, since int64, err error) {
	snap := b.Snapshot()
	defer snap.Release()
	since, reset, err := q.version(s.lineage, snap.Version, b.Oldest())
	if err != nil {
		return body, 0, err
	}
	body = listBody{Board: b.Name(), Version: snap.Version, Entries: []entryBody{}, Gone: []goneBody{}, Reset: reset}
	size, count := 0, 0
	last := ""
	for e := range q.selected(snap, since) {
		if !e.Found() && (!q.hasSince || reset) {
			continue
		}
		if count == q.limit || size > maxPage {
			body.Next = last
			break
		}
		count++
		last = e.Name
		if !e.Found() {
			body.Gone = append(body.Gone, goneBody{e.Name, e.Version})
			continue
		}
		entry := wireEntry(e)
		if q.bare {
			entry.Value = nil
		} else {
			size += len(e.Name) + e.Value.Len() + 100
		}
		body.Entries = append(body.Entries, entry)
	}
	return body, since, nil
}

// selected gives the names that are asked for and changed after version, by
// byte order, removed ones too.
func (q query) selected(snap *ledger.Snapshot, version int64) iter.Seq[ledger.Entry] {
	if len(q.names) == 0 {
		return snap.Changed(version, q.prefix, q.after)
	}
	return func(yield func(ledger.Entry) bool) {
		names := slices.Clone(q.names)
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			rec := snap.Record(name)
			skip := rec.Version == 0 || rec.Version <= version || q.after != "" && name <= q.after ||
				!strings.HasPrefix(name, q.prefix)
			if !skip && !yield(ledger.Entry{Name: name, Record: rec}) {
				return
			}
		}
	}
}

func (s *Server) cursor(version int64) string { return fmt.Sprintf("%d.%s", version, s.lineage) }

func (s *Server) listTag(q query, version int64) string {
	return fmt.Sprintf(`"%s.%s"`, s.cursor(version), q.hash())
}

// sameList says whether the client has the list as of version already.
func (s *Server) sameList(c *call, q query, version int64) bool {
	return contains(tags(c.r.Header.Values("If-None-Match")), strings.Trim(s.listTag(q, version), `"`))
}

// answerList answers with the list, or with 304 where the client has it or,
// with quiet, where it waited for news in vain.
func (s *Server) answerList(c *call, q query, body listBody, since int64, quiet bool) error {
	body.Cursor = s.cursor(body.Version)
	c.w.Header().Set("ETag", s.listTag(q, body.Version))
	conditional := c.r.Header.Get("If-None-Match") != ""
	if s.sameList(c, q, body.Version) || quiet && conditional && since > 0 {
		c.w.WriteHeader(http.StatusNotModified)
		return nil
	}
	writeJSON(c.w, http.StatusOK, body)
	return nil
}
