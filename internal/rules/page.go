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

// A Page is the one shape for what changed: a list, a delta, an event, the answer to
// a commit.
type Page struct {
	Board   string
	Version int64
	Mark    string // where a reader stands who has taken it in
	Since   string // the mark from which on it tells everything; empty with Whole
	Entries []entry.Entry
	Gone    []entry.Gone
	Whole   bool     // it tells all that was asked for, not only what changed
	Next    string   // the name after which more follow
	Results []Result // of a commit: one an edit
}

// MaxPage is how many bytes a page has at most as it is sent, unless one entry alone
// has more.
const MaxPage = 4 << 20

// pageOverhead is what a page has besides its entries, at most.
const pageOverhead = 1 << 10

// ErrStartAgain is returned for a later page of what changed since a mark that is not
// known any more.
var ErrStartAgain = errors.New("start again")

// A Query is what a list of entries is asked for. The zero Query is everything.
type Query struct {
	Names    []string // and what begins with one of Prefixes; where both are empty, all
	Prefixes []string
	Since    []mark.Mark // what changed after the oldest of them; none: all there is
	After    string      // only the names after this
	Limit    int         // 0: any number
	Bare     bool        // without values
}

// Has says whether the query is about a name.
func (q Query) Has(name string) bool {
	if len(q.Names) == 0 && len(q.Prefixes) == 0 {
		return true
	}
	return slices.Contains(q.Names, name) ||
		slices.ContainsFunc(q.Prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
}

// Hash tells two queries apart, but for the marks in them (FNV-1a).
func (q Query) Hash() string {
	if q.Limit == DefaultLimit && len(q.Names)+len(q.Prefixes)+len(q.After) == 0 && !q.Bare {
		return ofEverything
	}
	return q.hash()
}

// DefaultLimit is how many entries come in a page where nobody says it.
const DefaultLimit = 1000

// ofEverything is the hash of what is asked for most.
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
		if len(all) > 1 {
			all = slices.Sorted(slices.Values(all))
		}
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

// NoBoard is the mark of a board that doesn't exist.
var NoBoard = mark.Of(ledger.Told{})

// OnNothing is Read on a board that doesn't exist.
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

// Read gives what is asked for as of one moment, or its first page. The error is
// ErrStartAgain.
func (q Query) Read(l *ledger.Ledger) (Page, error) {
	snap := l.Snapshot()
	defer snap.Release()
	page := Page{Board: l.Name(), Version: snap.Version, Mark: mark.Of(snap.Told()).String()}
	since, known := q.oldest(l)
	if page.Whole = !known; known {
		page.Since = since.String()
	} else if q.After != "" && len(q.Since) > 0 {
		return page, startAgain(page.Board)
	}
	fill := filling{q: q, page: &page}
	for e := range q.changed(snap, since.Version) {
		if (e.Found() || !page.Whole) && !fill.add(e.Entry()) {
			break
		}
	}
	return page, nil
}

// Fill puts what is asked for of entries, which come by their names, on a page.
func (q Query) Fill(page *Page, entries []entry.Entry) {
	fill := filling{q: q, page: page}
	for _, e := range entries {
		if q.Has(e.Name) && (q.After == "" || e.Name > q.After) && !fill.add(e) {
			return
		}
	}
}

// A filling puts entries on a page until it is full.
type filling struct {
	q      Query
	page   *Page
	size   int
	newest string
}

// add puts an entry on the page, or among the gone where it has no value; false: it
// is full, and says so.
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
	return refuse.As(ErrStartAgain, "%s has changed so that what came before this page doesn't go with it: ask for the first page again, without since and after", board)
}

// oldest gives the mark after which all is to be told, and says whether all of them
// are known.
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

// Unchanged says whether nothing that is asked for changed since a mark, and gives the
// present one.
func (q Query) Unchanged(l *ledger.Ledger, m mark.Mark) (now mark.Mark, unchanged bool) {
	if now = mark.At(l, l.Version()); now == m {
		return now, true
	}
	snap := l.Snapshot()
	defer snap.Release()
	now = mark.Of(snap.Told())
	if !mark.Known(l, m) {
		return now, false
	}
	for range q.changed(snap, m.Version) {
		return now, false
	}
	return now, true
}

// changed gives the names that are asked for and changed after a version, by byte
// order, removed ones too.
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
		names := slices.Sorted(slices.Values(q.Names))
		for _, name := range slices.Compact(names) {
			rec := snap.Record(name)
			skip := rec.Version == 0 || rec.Version <= version || q.After != "" && name <= q.After
			if !skip && !yield(ledger.Named{Name: name, Record: rec}) {
				return
			}
		}
	}
}
