// Package near finds names that are so similar that one can be a misspelling of the other.
package near

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Match says how two different names nearly match, or returns "". Names that differ in their
// numbers, such as beds/1 and beds/2, do not match. The command check finds names that differ only
// in Unicode normalisation; an app does not include those tables.
func Match(a, b string) (how string) {
	if a == b || far(a, b) {
		return ""
	}
	la, lb := strings.ToLower(a), strings.ToLower(b)
	switch {
	case la == lb:
		return "they differ in capital letters only"
	case bare(la) == bare(lb):
		return "they differ in separators only"
	case oneSlip(la, lb):
		return "they differ in one letter"
	}
	return ""
}

// far reports that two names can't match. It is cheap, so that a name can be compared with thousands.
// It is always false for names that are not ASCII.
func far(a, b string) bool {
	for _, s := range [...]string{a, b} {
		for i := range len(s) {
			if s[i] >= utf8.RuneSelf {
				return false
			}
		}
	}
	head := 0
	for head < min(len(a), len(b)) && small(a[head]) == small(b[head]) {
		head++
	}
	x, y := a[head:], b[head:]
	tail := 0
	for tail < min(len(x), len(y)) && small(x[len(x)-1-tail]) == small(y[len(y)-1-tail]) {
		tail++
	}
	if max(len(x), len(y))-tail <= 2 { // two swapped letters, at most
		return false
	}
	for i, j := 0, 0; ; i, j = i+1, j+1 { // more can differ in separators
		for i < len(x) && isSeparator(x[i]) {
			i++
		}
		for j < len(y) && isSeparator(y[j]) {
			j++
		}
		switch {
		case i == len(x) && j == len(y):
			return false
		case i == len(x), j == len(y), small(x[i]) != small(y[j]):
			return true
		}
	}
}

func small(b byte) byte {
	if 'A' <= b && b <= 'Z' {
		b += 'a' - 'A'
	}
	return b
}

const separators = "-_./ "

func isSeparator(b byte) bool { return strings.IndexByte(separators, b) >= 0 }

// bare removes word separators.
func bare(s string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(separators, r) {
			return -1
		}
		return r
	}, s)
}

// shortest is the number of letters from which on two parts of a name that differ in one letter
// probably mean the same. Parts are separated by slashes. In a shorter part only a plural s counts.
const shortest = 5

// oneSlip reports whether one slip leads from a to b: a letter too many or too few, another letter,
// or two swapped letters.
func oneSlip(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(y)-len(x) > 1 {
		return false
	}
	i := 0
	for i < len(x) && x[i] == y[i] {
		i++
	}
	part := partAt(x, i)
	if len(y) > len(x) {
		if unicode.IsDigit(y[i]) || y[i] == '/' || string(x[i:]) != string(y[i+1:]) {
			return false
		}
		plural := part > 2 && y[i] == 's' && (i+1 == len(y) || y[i+1] == '/')
		return part >= shortest || plural
	}
	if part < shortest || unicode.IsDigit(x[i]) || unicode.IsDigit(y[i]) || i == 0 || x[i-1] == '/' || x[i-1] == '-' {
		// Another first letter makes another word: row and low, sown and town.
		return false
	}
	if string(x[i+1:]) == string(y[i+1:]) {
		// In a short name, another letter makes another word too.
		return len(x) >= shortest+2 && x[i] != '/' && y[i] != '/'
	}
	return i+1 < len(x) && x[i] == y[i+1] && x[i+1] == y[i] && string(x[i+2:]) == string(y[i+2:])
}

// partAt returns the length of the part of a name around a position.
func partAt(name []rune, at int) int {
	from, to := min(at, len(name)), min(at, len(name))
	for from > 0 && name[from-1] != '/' {
		from--
	}
	for to < len(name) && name[to] != '/' {
		to++
	}
	return to - from
}
