package entry

import (
	"slices"
	"strings"
	"unicode"

	"github.com/small-pantry/pantry/value"
)

// Words in a name by which what it holds is likely a secret, alone or one after
// another, and words beside them by which it is not: token-count is a number of
// tokens, password-hint is meant to be read.
var (
	secretWords = []string{"password", "passwd", "passphrase", "secret", "token", "apikey", "credential", "credentials", "bearer"}
	secretPairs = [][2]string{{"api", "key"}, {"private", "key"}, {"access", "key"}}
	harmless    = []string{"count", "hint", "length", "policy", "expiry", "expires", "updated", "label", "name", "kind", "id", "url", "max", "min", "set"}
)

// SecretName says whether a name says that what it holds is a secret.
func SecretName(name string) bool {
	words := wordsOf(name)
	secret := false
	for i, w := range words {
		if slices.Contains(harmless, w) {
			return false
		}
		secret = secret || slices.Contains(secretWords, w) || i > 0 && slices.Contains(secretPairs, [2]string{words[i-1], w})
	}
	return secret
}

// SecretKey says whether a key should be sealed by its name, and is not.
func SecretKey(k Declared) bool {
	switch k.Kind {
	case value.KindText, value.KindBytes, value.KindList, value.KindMap:
		return SecretName(k.Name)
	}
	return false
}

// wordsOf parts a name into its words, in small letters: they end at what is no
// letter, and before a capital letter behind a small one.
func wordsOf(name string) []string {
	var b strings.Builder
	last := ' '
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r):
			r = ' '
		case unicode.IsUpper(r) && unicode.IsLower(last):
			b.WriteByte(' ')
		}
		b.WriteRune(unicode.ToLower(r))
		last = r
	}
	return strings.Fields(b.String())
}
