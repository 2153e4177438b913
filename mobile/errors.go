package mobile

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/small-pantry/pantry"
)

// codes are the codes of errors; the first error that matches counts.
var codes = []struct {
	is   error
	code string
}{
	{errMisuse, "misuse"}, {pantry.ErrClosed, "closed"}, {pantry.ErrWrongKind, "wrong-kind"}, {pantry.ErrTooLarge, "too-large"},
	{pantry.ErrConflict, "conflict"}, {pantry.ErrSealed, "sealed"}, {pantry.ErrNewer, "newer"}, {pantry.ErrDamaged, "damaged"}, {pantry.ErrBusy, "busy"},
	{pantry.ErrReadOnly, "read-only"}, {pantry.ErrUncertain, "uncertain"}, {pantry.ErrNotStored, "not-stored"}, {pantry.ErrAbsent, "absent"},
	{pantry.ErrInvalid, "invalid"}, {fs.ErrPermission, "permission"}, {fs.ErrNotExist, "absent"},
}

var errMisuse = errors.New("misuse")

// A failure is an error in the form for another language.
type failure struct {
	code     string
	sentence string
	cause    error
}

func (f *failure) Error() string { return f.code + ": " + f.sentence }
func (f *failure) Unwrap() error { return f.cause }

// told returns an error in the form that Code and Sentence can parse.
func told(err error) error {
	var known *failure
	if err == nil || errors.As(err, &known) {
		return err
	}
	f := &failure{code: "failed", sentence: err.Error(), cause: err}
	for _, c := range codes {
		if errors.Is(err, c.is) {
			f.code = c.code
			break
		}
	}
	if s, ok := pantry.Sentence(err); ok {
		f.sentence = s
	}
	return f
}

func misuse(format string, args ...any) error {
	cause := fmt.Errorf(format, args...)
	return &failure{"misuse", cause.Error(), errors.Join(errMisuse, cause)}
}

// caught returns the panic of a declaration as its error: those languages have no panics.
func caught(err *error) {
	switch p := recover().(type) {
	case nil:
	case error:
		*err = misuse("%w", p)
	default:
		*err = misuse("%v", p)
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
