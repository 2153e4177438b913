package entry

import (
	"slices"
	"strings"
	"unicode"

	"github.com/small-pantry/pantry/value"
)

// Words in a name that suggest a secret, alone or in sequence, and words that show that it is none:
// token-count is a number of tokens, password-hint is meant to be read.
var (
	secretWords = []string{"password", "passwd", "passphrase", "secret", "token", "apikey", "credential", "credentials", "bearer"}
	secretPairs = [][2]string{{"api", "key"}, {"private", "key"}, {"access", "key"}}
	harmless    = []string{"count", "hint", "length", "policy", "expiry", "expires", "updated", "label", "name", "kind", "id", "url", "max", "min", "set"}
)

// SecretName reports whether a name suggests that its value is a secret.
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

// SecretKey reports whether a key should be sealed because of its name, and is not.
func SecretKey(k Declared) bool {
	switch k.Kind {
	case value.KindText, value.KindBytes, value.KindList, value.KindMap:
		return SecretName(k.Name)
	}
	return false
}

// wordsOf splits a name into words in small letters. A word ends at a character that is no letter,
// and before a capital that follows a small letter.
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
