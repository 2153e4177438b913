// Package near tells names that are so alike that one of them may be a
// misspelling of the other.
package near

import (
	"strings"
	"unicode"
)

// Match says how two different names nearly match, or is empty when they don't.
// Names that differ in their numbers, as beds/1 and beds/2, don't. Names that
// differ in Unicode normalisation alone are for the command check to find, since
// an app is not to carry the tables.
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

// bare leaves out what separates words.
func bare(s string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune("-_./ ", r) {
			return -1
		}
		return r
	}, s)
}

// shortest is the length from which on two words that differ in one letter are
// likely to be meant as one.
const shortest = 5

// oneSlip says whether one slip of the finger leads from a to b: a letter too
// many or too few, another letter, or two letters swapped.
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
		// In a word of few letters another letter makes another word too.
		return len(x) >= shortest+2 && x[i] != '/' && y[i] != '/'
	}
	return i+1 < len(x) && x[i] == y[i+1] && x[i+1] == y[i] && string(x[i+2:]) == string(y[i+2:])
}
