package near

import (
	"slices"
	"strings"
)

// Names is an index of names. It finds near matches without comparing a name with each of them.
type Names struct {
	lower map[string][]string // by their form in small letters
	bare  map[string][]string // and by that form without word separators
	long  map[int][]string    // the forms in small letters, by their number of runes
}

// A Near is a name that nearly matches, and how.
type Near struct{ Name, How string }

// Index returns an index of names.
func Index(names []string) *Names {
	n := &Names{lower: map[string][]string{}, bare: map[string][]string{}, long: map[int][]string{}}
	for _, name := range names {
		low := strings.ToLower(name)
		if n.lower[low] == nil {
			size := len([]rune(low))
			n.long[size] = append(n.long[size], low)
		}
		n.lower[low] = append(n.lower[low], name)
		n.bare[bare(low)] = append(n.bare[bare(low)], name)
	}
	return n
}

// Near returns the names that nearly match name, in order.
func (n *Names) Near(name string) (out []Near) {
	low := strings.ToLower(name)
	seen := map[string]bool{name: true}
	take := func(others []string) {
		for _, other := range others {
			if how := Match(name, other); how != "" && !seen[other] {
				seen[other] = true
				out = append(out, Near{other, how})
			}
		}
	}
	take(n.lower[low])
	take(n.bare[bare(low)])
	size := len([]rune(low))
	for _, long := range []int{size - 1, size, size + 1} {
		for _, other := range n.long[long] {
			if mayBeOneSlip(low, other) {
				take(n.lower[other])
			}
		}
	}
	slices.SortFunc(out, func(a, b Near) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// mayBeOneSlip returns false if the common beginning and end of two names are too short for one
// slip, counted in bytes.
func mayBeOneSlip(a, b string) bool {
	const slip = 8 // two letters of at most four bytes each
	least := min(len(a), len(b))
	head := 0
	for head < least && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < least-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	return max(len(a), len(b))-head-tail <= slip
}
