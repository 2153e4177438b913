package term

import (
	"cmp"
	"strings"
	"unicode"
)

// Natural orders names as people do: numbers by their value, and letters without case. Names that
// are equal that way are ordered by bytes.
func Natural(a, b string) int {
	x, y := []rune(a), []rune(b)
	for len(x) > 0 && len(y) > 0 {
		if unicode.IsDigit(x[0]) && unicode.IsDigit(y[0]) {
			var m, n string
			m, x = digits(x)
			n, y = digits(y)
			if order := cmp.Or(cmp.Compare(len(m), len(n)), strings.Compare(m, n)); order != 0 {
				return order
			}
			continue
		}
		if order := cmp.Compare(unicode.ToLower(x[0]), unicode.ToLower(y[0])); order != 0 {
			return order
		}
		x, y = x[1:], y[1:]
	}
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(a, b))
}

// digits returns the number at the start of s without leading zeros, and the rest.
func digits(s []rune) (number string, rest []rune) {
	n := 0
	for n < len(s) && unicode.IsDigit(s[n]) {
		n++
	}
	return strings.TrimLeft(string(s[:n]), "0"), s[n:]
}
