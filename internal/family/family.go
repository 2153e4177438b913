// Package family knows which families a name is in: whoever declares a key
// declares each name under it too.
package family

import (
	"iter"
	"strings"
)

// Of gives a name and then the families that it is in, the nearest first:
// watered/C4/east, watered/C4, watered.
func Of(name string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for yield(name) {
			i := strings.LastIndexByte(name, '/')
			if i < 0 {
				return
			}
			name = name[:i]
		}
	}
}
