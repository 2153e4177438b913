package rules

import (
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/time/rate"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/value"
)

// A Near reports that a name nearly matches another one that is stored or declared.
type Near struct {
	Name string
	Near string // the other name
	By   string // who stored or declared it; empty if that is unknown

	first int64 // the version that created the other one; 0 if it is only declared
}

// The bounds of the work for near names. A search compares a name with each name of the board.
const (
	maxNear      = 20  // findings in one answer
	mostSearched = 20  // names that one call searches for
	longSearched = 128 // longer names are not searched for
	keptSearches = 256 // results that are kept for a board
	searchRate   = 5   // searches a second on a board
	searchBurst  = 40
)

// nearby holds the results of searches on one board, until its names change.
type nearby struct {
	limit *rate.Limiter

	mu     sync.Mutex // guards the following fields
	naming int64      // ledger.Naming at the time of the searches
	found  map[string][]Near
}

// nearNames returns the names that nearly match those of names that are neither stored nor declared,
// if they begin with prefix and are newer than a version. A board that is searched too often returns
// none.
func nearNames(l *ledger.Ledger, prefix string, after int64, names ...string) (out []Near) {
	searched := 0
	for _, name := range names {
		if n := l.Find(name); n != nil && n.Record().Found() || l.DeclaredFor(name).Kind != value.KindNone {
			continue
		}
		if searched++; searched > mostSearched {
			break
		}
		out = appendNear(out, l, prefix, after, name)
	}
	return out
}

// createdNear is nearNames for undeclared names that a commit has just created.
func createdNear(l *ledger.Ledger, prefix string, names []string) (out []Near) {
	for i, name := range names {
		if i == mostSearched {
			break
		}
		if l.DeclaredFor(name).Kind == value.KindNone {
			out = appendNear(out, l, prefix, 0, name)
		}
	}
	return out
}

func appendNear(out []Near, l *ledger.Ledger, prefix string, after int64, name string) []Near {
	for _, one := range search(l, name) {
		if len(out) < maxNear && strings.HasPrefix(one.Near, prefix) && (after == 0 || one.first > after) {
			out = append(out, one)
		}
	}
	return out
}

// search returns the names that nearly match a name, from an earlier search if no name has changed
// since.
func search(l *ledger.Ledger, name string) []Near {
	if len(name) > longSearched {
		return nil
	}
	n := l.Attached(func() any { return &nearby{limit: rate.NewLimiter(searchRate, searchBurst)} }).(*nearby)
	n.mu.Lock()
	defer n.mu.Unlock()
	now := l.Naming()
	if n.found == nil || n.naming != now || len(n.found) >= keptSearches {
		n.naming, n.found = now, map[string][]Near{}
	}
	found, known := n.found[name]
	if !known && n.limit.Allow() {
		found = compare(l, name)
		n.found[name] = found
	}
	return found
}

// compare compares a name with every stored and declared one.
func compare(l *ledger.Ledger, name string) (out []Near) {
	mayMatch := func(other string) bool { // a cheap test first
		d := len(name) - len(other)
		return other != name && -utf8.UTFMax <= d && d <= utf8.UTFMax
	}
	snap := l.Snapshot()
	defer snap.Release()
	at := map[string]int{}
	for e := range snap.Entries("", "") {
		if mayMatch(e.Name) && near.Match(name, e.Name) != "" && len(out) < maxNear {
			at[e.Name] = len(out)
			out = append(out, Near{name, e.Name, e.By, e.First})
		}
	}
	for _, k := range l.Keys() {
		switch i, stored := at[k.Name]; {
		case stored && k.By != "":
			out[i].By = k.By
		case !stored && mayMatch(k.Name) && near.Match(name, k.Name) != "" && len(out) < maxNear:
			out = append(out, Near{name, k.Name, k.By, 0})
		}
	}
	return out
}

// NearTo returns the names that an absent name nearly matches, among those that begin with prefix.
func NearTo(l *ledger.Ledger, prefix, name string) (names []string) {
	for _, one := range nearNames(l, prefix, 0, name) {
		names = append(names, one.Near)
	}
	return names
}
