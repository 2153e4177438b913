package handover

import (
	"errors"
	"fmt"
	"io/fs"

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

// Failure returns an error with a code of its own.
func Failure(code, sentence string, cause error) error { return &failure{code, sentence, cause} }

// Coded returns an error in the form that mobile.Code and mobile.Sentence can parse.
func Coded(err error) error {
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

// Misuse returns a failure of the caller.
func Misuse(format string, args ...any) error {
	cause := fmt.Errorf(format, args...)
	return &failure{"misuse", cause.Error(), errors.Join(errMisuse, cause)}
}
