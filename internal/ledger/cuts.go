package ledger

import (
	"math"
	"sort"
	"time"
)

// The kept past, besides the newest commits: the newest changes of each name, and restore points.
// If it is too large, changes beyond a few per name go first, then restore points, then the rest,
// the oldest first.
const (
	keptChanges = 20
	fewChanges  = 3
)

// One restore point per minute, hour and day, up to an age.
var restorePoints = []struct{ each, upTo time.Duration }{
	{time.Minute, time.Hour},
	{time.Hour, 2 * 24 * time.Hour},
	{24 * time.Hour, 30 * 24 * time.Hour},
}

// all is more than any number of commits.
const all = math.MaxInt

// weigh ranks the lines at a time. The newest commits, or all of them, are always kept.
func (p *past) weigh(now time.Time, commits int) {
	next, rank := make([]int32, p.names), make([]int32, p.names)
	seen := map[[2]int64]bool{}
	var last [2]int64 // of seen
	for i := len(p.lines) - 1; i >= 0; i-- {
		l := &p.lines[i]
		merged := l.mark.Over > 0
		switch {
		case l.empty:
		case commits == all:
			l.newest = true
		case !merged:
			l.newest = commits > 0
			commits--
		}
		for c := l.to - 1; c >= l.from; c-- {
			ch := &p.changes[c]
			if ch.next = int32(len(p.lines)); next[ch.of] > 0 {
				ch.next = next[ch.of]
			}
			next[ch.of] = int32(i)
			if ch.forgot {
				continue
			}
			// A merged line has the version and time of a change only if the change is the newest
			// of its name.
			if merged && rank[ch.of] > 0 {
				continue
			}
			rank[ch.of]++
			if l.rank == 0 || rank[ch.of] < l.rank {
				l.rank = rank[ch.of]
			}
		}
		age := time.Duration(max(now.UnixMilli()-l.at, 0)) * time.Millisecond
		for kind, points := range restorePoints {
			if age < points.upTo {
				of := [2]int64{int64(kind + 1), l.at / points.each.Milliseconds()}
				if of != last { // most lines have the same time as the one before
					l.point = !seen[of]
					seen[of], last = true, of
				}
				break
			}
		}
	}
}

// cuts are the lines before which something is dropped: changes beyond the newest few, restore
// points, everything.
type cuts struct{ changes, points, all int }

// whole reports whether a line is kept as it is.
func (p *past) whole(i int, c cuts) bool {
	l := &p.lines[i]
	switch {
	case l.empty:
		return false
	case l.newest, 0 < l.rank && l.rank <= fewChanges:
		return true
	}
	return 0 < l.rank && l.rank <= keptChanges && i >= c.changes
}

func (p *past) point(i int, c cuts) bool { return p.lines[i].point && i >= c.points }

// start returns the first kept line. The lines before become the base.
func (p *past) start(c cuts) int {
	for i := c.all; i < len(p.lines); i++ {
		switch {
		case p.whole(i, c):
			return i
		case p.point(i, c):
			return i + 1
		}
	}
	return len(p.lines)
}

// size returns the approximate number of bytes kept.
func (p *past) size(c cuts) (size int64) {
	p.runs(c, func(from, to int) {
		if p.asIs(from, to) {
			size += int64(len(p.lines[from].raw)) + 1
			return
		}
		size += lineOverhead
		for _, ch := range p.changes[p.lines[from].from:p.lines[to-1].to] {
			if int(ch.next) >= to && !ch.forgot {
				size += int64(ch.size)
			}
		}
	})
	return size
}

// within chooses the cuts so that at most so many bytes are kept.
func (p *past) within(most int64) (c cuts) {
	if p.size(c) <= most {
		return c
	}
	for _, cut := range []*int{&c.changes, &c.points, &c.all} {
		*cut = sort.Search(len(p.lines), func(i int) bool {
			*cut = i
			return p.size(c) <= most
		})
	}
	return c
}

// lineOverhead is the approximate size of a line without names and values.
const lineOverhead = 100
