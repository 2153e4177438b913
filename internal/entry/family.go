package entry

import (
	"iter"
	"strings"
)

// Families returns a name and then the families that it belongs to, the nearest first:
// watered/C4/east, watered/C4, watered. A declared key covers each name under it.
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
