package mobile

import (
	"strings"

	"github.com/small-pantry/pantry/internal/handover"
)

// caught returns the panic of a declaration as its error: those languages have no panics.
func caught(err *error) {
	switch p := recover().(type) {
	case nil:
	case error:
		*err = handover.Misuse("%w", p)
	default:
		*err = handover.Misuse("%v", p)
	}
}

// Code returns the code of an error message: misuse, closed, wrong-kind, invalid, too-large,
// conflict, sealed, newer, damaged, busy, read-only, permission, not-stored, uncertain, absent or
// failed; "" for the message of any other error.
func Code(message string) string {
	code, _, ok := strings.Cut(message, ": ")
	if !ok || strings.ContainsFunc(code, func(r rune) bool { return r != '-' && (r < 'a' || r > 'z') }) {
		return ""
	}
	return code
}

// Sentence returns the sentence of an error message, for a user.
func Sentence(message string) string {
	if code := Code(message); code != "" {
		return message[len(code)+2:]
	}
	return message
}
