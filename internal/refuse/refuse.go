// Package refuse makes errors that are one of the sentinels and whose text is
// a sentence by itself, without the sentinel's words before it.
package refuse

import "fmt"

type refusal struct {
	is       error
	sentence string
}

func (r *refusal) Error() string { return r.sentence }
func (r *refusal) Unwrap() error { return r.is }

// As gives an error that errors.Is finds to be is, and whose text is what
// format and args make.
func As(is error, format string, args ...any) error {
	return &refusal{is, fmt.Sprintf(format, args...)}
}
