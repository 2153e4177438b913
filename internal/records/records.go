// Package records holds what collections on a device and on a board have in common.
package records

import (
	"cmp"
	"iter"
	"slices"
	"strconv"
	"strings"
)

// A Change is a change of one record: see pantry.ItemChange. Old and New are pointers, or nil.
type Change struct {
	Old, New any
	Had, Has bool
	First    bool
}

// Changes calls yield for each record whose ids come from watch: for all of the first ids with First
// set, and then for those that have changed since the last call. It ends with watch, or when yield
// returns false. lookup returns a usable record, and the version that changed it.
func Changes(watch iter.Seq[[]string], lookup func(id string) (x any, version int64, found bool), yield func(id string, c Change) bool) {
	type record struct {
		x       any
		version int64
	}
	known := map[string]record{}
	first := true
	for ids := range watch {
		for _, id := range ids {
			old, had := known[id]
			now, version, has := lookup(id)
			if !had && !has || had && has && old.version == version {
				continue
			}
			if has {
				known[id] = record{now, version}
			} else {
				delete(known, id)
			}
			if !yield(id, Change{old.x, now, had, has, first}) {
				return
			}
		}
		first = false
	}
}

// Sorted yields records in the order of compare. Those that compare as equal stay in their order.
func Sorted(all iter.Seq2[string, any], compare func(a, b any) int) iter.Seq2[string, any] {
	return func(yield func(string, any) bool) {
		type record struct {
			id string
			x  any
		}
		var sorted []record
		for id, x := range all {
			sorted = append(sorted, record{id, x})
		}
		slices.SortStableFunc(sorted, func(a, b record) int { return compare(a.x, b.x) })
		for _, one := range sorted {
			if !yield(one.id, one.x) {
				return
			}
		}
	}
}

// Number returns the number that an id is, or -1.
func Number(id string) int64 {
	if strings.ContainsFunc(id, func(r rune) bool { return r < '0' || r > '9' }) {
		return -1
	}
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return -1
	}
	return n
}

// Compare orders ids: numbers first, by size, and then the others by their bytes. decided is false if
// both are no numbers, so that the caller can order them otherwise.
func Compare(a, b string) (order int, decided bool) {
	n, m := Number(a), Number(b)
	switch {
	case n >= 0 && m >= 0:
		return cmp.Or(cmp.Compare(n, m), strings.Compare(a, b)), true
	case n >= 0:
		return -1, true
	case m >= 0:
		return 1, true
	}
	return strings.Compare(a, b), false
}
