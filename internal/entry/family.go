package entry

import (
	"iter"
	"strings"
)

// Families gives a name and then the families that it is in, the nearest
// first: watered/C4/east, watered/C4, watered. Whoever declares a key declares
// each name under it too.
func Families(name string) iter.Seq[string] {
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
