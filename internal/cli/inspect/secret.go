package inspect

import (
	"math"
	"regexp"
	"strings"
	"unicode"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// Values that look like a secret under any name.
var (
	jwt    = regexp.MustCompile(`^eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*$`)
	opaque = regexp.MustCompile(`^[A-Za-z0-9+/_.=-]{24,}$`)
	hex    = regexp.MustCompile(`^[0-9a-fA-F]{32,}$`)
)

// secret returns why a value looks like a secret, or "". Sealed values do not.
func secret(name string, v value.Value) string {
	switch v.Kind() {
	case value.KindText:
		s, _ := v.AsText()
		return secretText(name, s)
	case value.KindBytes:
		if v.Len() > 0 && entry.SecretName(name) {
			return "its name says that it is a secret"
		}
	case value.KindList:
		for _, item := range v.Items() {
			if why := secret(name, item); why != "" {
				return why
			}
		}
	case value.KindMap:
		for _, m := range v.Members() {
			if why := secret(name+"/"+m.Name, m.Value); why != "" {
				return why + " (in " + m.Name + ")"
			}
		}
	}
	return ""
}

func secretText(name, s string) string {
	switch {
	case strings.Contains(s, "-----BEGIN ") && strings.Contains(s, "PRIVATE KEY-----"):
		return "it is a private key (PEM)"
	case jwt.MatchString(s):
		return "it is a signed token (JWT)"
	case s != "" && entry.SecretName(name):
		return "its name says that it is a secret"
	case hex.MatchString(s), opaque.MatchString(s) && mixed(s) && entropy(s) > 3.8:
		return "it looks like a key or a token"
	}
	return ""
}

// mixed reports whether s has capital letters, small letters and digits. Random strings nearly
// always have; words never do.
func mixed(s string) bool {
	return strings.ContainsFunc(s, unicode.IsUpper) && strings.ContainsFunc(s, unicode.IsLower) && strings.ContainsFunc(s, unicode.IsDigit)
}

// entropy returns the entropy of s in bits per character.
func entropy(s string) float64 {
	counts := map[rune]float64{}
	for _, r := range s {
		counts[r]++
	}
	var h float64
	for _, n := range counts {
		p := n / float64(len(s))
		h -= p * math.Log2(p)
	}
	return h
}
