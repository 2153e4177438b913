package rules

import (
	"errors"
	"iter"
	"slices"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/refuse"
)

// A Page is the one shape for changes: a list, a delta, an event, or the answer to a commit.
type Page struct {
	Board   string
	Version int64
	Mark    string // the position of a reader that has applied it
	Since   string // the mark since which it reports every change; empty with Whole
	Entries []entry.Entry
	Gone    []entry.Gone
	Whole   bool     // it is a full snapshot of the selection, not a delta
	Next    string   // the name after which the next page starts
	Results []Result // of a commit: one per edit
	// Findings are the names that were requested or created and nearly match others.
	Findings []Near
}

// MaxPage is the maximum size of a page in bytes as sent, unless one entry alone is larger.
const MaxPage = 4 << 20

// pageOverhead is an upper bound of the size of a page without its entries.
const pageOverhead = 1 << 10

// ErrStartAgain is returned for a later page of the changes since a mark that is no longer known.
var ErrStartAgain = errors.New("start again")

// A Query selects entries for a list. The zero Query selects all.
type Query struct {
	// Names and Prefixes select names, and names that begin with a prefix. If both are empty, all are selected.
	// Both are sorted, and no prefix begins with another one: see ledger.Outermost.
	Names, Prefixes []string

	Since  []mark.Mark // changes after the oldest of these marks; none means everything
	After  string      // only names after this one
	Limit  int         // 0 means no limit
	Bare   bool        // without values
	Within string      // findings mention only names with this prefix
}

// Has reports whether the query selects a name.
func (q Query) Has(name string) bool {
	if len(q.Names) == 0 && len(q.Prefixes) == 0 {
		return true
	}
	i, found := slices.BinarySearch(q.Prefixes, name)
	if found || i > 0 && strings.HasPrefix(name, q.Prefixes[i-1]) {
		return true
	}
	_, found = slices.BinarySearch(q.Names, name)
	return found
}

// Hash returns a hash of the query without its marks (FNV-1a).
func (q Query) Hash() string {
	if q.Limit == DefaultLimit && len(q.Names)+len(q.Prefixes)+len(q.After) == 0 && !q.Bare {
		return ofEverything
	}
	return q.hash()
}

// DefaultLimit is the default number of entries of a page.
const DefaultLimit = 1000

// ofEverything is the hash of the most frequent query.
var ofEverything = Query{Limit: DefaultLimit}.hash()

func (q Query) hash() string {
	const offset, prime = 14695981039346656037, 1099511628211
	h := uint64(offset)
	number := func(n int) {
		for range 8 {
			h = (h ^ uint64(n&0xff)) * prime
			n >>= 8
		}
	}
	word := func(s string) {
		number(len(s))
		for i := range len(s) {
			h = (h ^ uint64(s[i])) * prime
		}
	}
	for _, all := range [][]string{q.Names, q.Prefixes} {
		number(len(all))
		for _, s := range all {
			word(s)
		}
	}
	word(q.After)
	number(q.Limit)
	if q.Bare {
		number(1)
	}
	return strconv.FormatUint(h, 36)
}

// NoBoard is the mark of a board that does not exist.
var NoBoard = mark.Of(ledger.CommitID{})

// OnNothing is Read for a board that does not exist.
func (q Query) OnNothing(board string) (Page, error) {
	p := Page{Board: board, Mark: NoBoard.String(), Whole: true}
	switch {
	case len(q.Since) == 0:
	case slices.ContainsFunc(q.Since, func(m mark.Mark) bool { return m != NoBoard }):
		if q.After != "" {
			return p, startAgain(board)
		}
	default:
		p.Since, p.Whole = p.Mark, false
	}
	return p, nil
}

// Read returns the selection as of one moment, or its first page. The error is ErrStartAgain.
func (q Query) Read(l *ledger.Ledger) (Page, error) {
	snap := l.Snapshot()
	defer snap.Release()
	page := Page{Board: l.Name(), Version: snap.Version, Mark: mark.Of(snap.Commit()).String()}
	since, known := q.oldest(l)
	if page.Whole = !known; known {
		page.Since = since.String()
	} else if q.After != "" && len(q.Since) > 0 {
		return page, startAgain(page.Board)
	}
	if q.After == "" {
		page.Findings = q.near(l, since.Version)
	}
	fill := filling{q: q, page: &page}
	for e := range q.changed(snap, since.Version) {
		if (e.Found() || !page.Whole) && !fill.add(e.Entry()) {
			break
		}
	}
	return page, nil
}

// near returns the names near the absent ones of the query, if they are newer than a version.
func (q Query) near(l *ledger.Ledger, after int64) []Near {
	if len(q.Names) == 0 {
		return nil
	}
	return nearNames(l, q.Within, after, q.Names...)
}

// Fill adds the selected ones of entries, which are in order of their names, to a page.
func (q Query) Fill(page *Page, entries []entry.Entry) {
	fill := filling{q: q, page: page}
	for _, e := range entries {
		if q.Has(e.Name) && (q.After == "" || e.Name > q.After) && !fill.add(e) {
			return
		}
	}
}

// A filling adds entries to a page until it is full.
type filling struct {
	q      Query
	page   *Page
	size   int
	newest string
}

// add adds an entry to the page, or to its gone names if it has no value. It returns false if the
// page is full.
func (f *filling) add(e entry.Entry) bool {
	more := e.JSONLen(f.q.Bare) + 1
	if n := len(f.page.Entries) + len(f.page.Gone); f.q.Limit > 0 && n == f.q.Limit || n > 0 && pageOverhead+f.size+more > MaxPage {
		f.page.Next = f.newest
		return false
	}
	f.size += more
	if f.newest = e.Name; e.Value.IsZero() {
		f.page.Gone = append(f.page.Gone, entry.Gone{Name: e.Name, Version: e.Version})
	} else {
		f.page.Entries = append(f.page.Entries, e)
	}
	return true
}

func startAgain(board string) error {
	return refuse.As(ErrStartAgain, "%s has changed, so this page does not fit the earlier ones: request the first page again, without since and after", board)
}

// oldest returns the oldest mark of Since, and reports whether all marks are known.
func (q Query) oldest(l *ledger.Ledger) (oldest mark.Mark, known bool) {
	for i, m := range q.Since {
		if !mark.Known(l, m) {
			return mark.Mark{}, false
		}
		if i == 0 || m.Version < oldest.Version {
			oldest = m
		}
	}
	return oldest, len(q.Since) > 0
}

// Unchanged reports whether nothing in the selection has changed since a mark, and no name has
// appeared that is near to a selected one. It also returns the present mark.
func (q Query) Unchanged(l *ledger.Ledger, m mark.Mark) (now mark.Mark, unchanged bool) {
	if now = mark.At(l, l.Version()); now == m {
		return now, true
	}
	snap := l.Snapshot()
	defer snap.Release()
	now = mark.Of(snap.Commit())
	if !mark.Known(l, m) {
		return now, false
	}
	for range q.changed(snap, m.Version) {
		return now, false
	}
	return now, len(q.near(l, m.Version)) == 0
}

// changed returns the selected names that changed after a version, in byte order, including removed
// ones.
func (q Query) changed(snap *ledger.Snapshot, version int64) iter.Seq[ledger.Named] {
	switch {
	case len(q.Names) == 0 && len(q.Prefixes) == 0:
		return snap.Changed(version, "", q.After)
	case len(q.Names) == 0 && len(q.Prefixes) == 1:
		return snap.Changed(version, q.Prefixes[0], q.After)
	case len(q.Prefixes) > 0:
		return func(yield func(ledger.Named) bool) {
			for e := range snap.Changed(version, "", q.After) {
				if q.Has(e.Name) && !yield(e) {
					return
				}
			}
		}
	}
	return func(yield func(ledger.Named) bool) {
		for _, name := range q.Names {
			rec := snap.Record(name)
			skip := rec.Version == 0 || rec.Version <= version || q.After != "" && name <= q.After
			if !skip && !yield(ledger.Named{Name: name, Record: rec}) {
				return
			}
		}
	}
}
