// Package sorted sorts slices of structs in little code: slices.SortFunc is compiled again for each type,
// which makes every app larger by about 10 KB a type.
package sorted

import (
	"maps"
	"slices"
	"strings"
)

// few items are sorted by insertion.
const few = 12

// By sorts s in the order of compare. The sort is not stable.
func By[T any](s []T, compare func(a, b *T) int) {
	if len(s) <= few {
		for i := 1; i < len(s); i++ {
			for j := i; j > 0 && compare(&s[j], &s[j-1]) < 0; j-- {
				s[j], s[j-1] = s[j-1], s[j]
			}
		}
		return
	}
	copied := slices.Clone(s)
	pointers := make([]*T, len(s)) // all pointers share one compiled sort
	for i := range copied {
		pointers[i] = &copied[i]
	}
	slices.SortFunc(pointers, compare)
	for i, p := range pointers {
		s[i] = *p
	}
}

// Strings sorts texts by their bytes.
func Strings(s []string) {
	By(s, func(a, b *string) int { return strings.Compare(*a, *b) })
}

// Keys returns the keys of a map, sorted by their bytes.
func Keys[V any](m map[string]V) []string {
	keys := slices.Collect(maps.Keys(m))
	Strings(keys)
	return keys
}
