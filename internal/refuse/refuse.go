// Package refuse makes errors that wrap a sentinel and whose text is a complete sentence, without
// the text of the sentinel.
package refuse

import "fmt"

type refusal struct {
	is       error
	sentence string
}

func (r *refusal) Error() string { return r.sentence }
func (r *refusal) Unwrap() error { return r.is }

// As returns an error that errors.Is identifies as is. format and args make its text.
func As(is error, format string, args ...any) error {
	return &refusal{is, fmt.Sprintf(format, args...)}
}
