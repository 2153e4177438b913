// Package near finds names that are so similar that one can be a misspelling of the other.
package near

import (
	"strings"
	"unicode"
)

// Match says how two different names nearly match, or returns "". Names that differ in their
// numbers, such as beds/1 and beds/2, do not match. The command check finds names that differ only
// in Unicode normalisation; an app does not include those tables.
func Match(a, b string) (how string) {
	if a == b {
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

// bare removes word separators.
func bare(s string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune("-_./ ", r) {
			return -1
		}
		return r
	}, s)
}

// shortest is the length from which on two words that differ in one letter probably mean the same.
const shortest = 5

// oneSlip reports whether one slip leads from a to b: a letter too many or too few, another letter,
// or two swapped letters.
func oneSlip(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(x) < shortest || len(y)-len(x) > 1 {
		return false
	}
	i := 0
	for i < len(x) && x[i] == y[i] {
		i++
	}
	if len(y) > len(x) {
		return !unicode.IsDigit(y[i]) && y[i] != '/' && string(x[i:]) == string(y[i+1:])
	}
	if unicode.IsDigit(x[i]) || unicode.IsDigit(y[i]) || i == 0 || x[i-1] == '/' || x[i-1] == '-' {
		// Another first letter makes another word: row and low, sown and town.
		return false
	}
	if string(x[i+1:]) == string(y[i+1:]) {
		// In a short word, another letter makes another word too.
		return len(x) >= shortest+2 && x[i] != '/' && y[i] != '/'
	}
	return i+1 < len(x) && x[i] == y[i+1] && x[i+1] == y[i] && string(x[i+2:]) == string(y[i+2:])
}
