// Package access decides who may do what on a board: the rights of a token, its prefix, and its
// end. It knows no HTTP.
package access

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// A Right is what a token allows. Each right includes those before it.
type Right uint8

const (
	Nothing Right = iota
	Read
	Add   // add, append, raise, lower; not overwrite, take or remove
	Write // includes declaring keys
	Own   // tokens, keys, forgetting
	Admin // all boards, and their list
)

var rights = [...]string{Read: "read", Add: "add", Write: "write", Own: "own"}

// String returns the right's name. That of an admin is own.
func (r Right) String() string {
	switch {
	case r == Nothing:
		return "nothing"
	case r >= Own:
		return rights[Own]
	}
	return rights[r]
}

// ParseRight parses the right of a token. The error wraps value.ErrInvalid.
func ParseRight(s string) (Right, error) {
	for r := Read; r <= Own; r++ {
		if rights[r] == s {
			return r, nil
		}
	}
	return Nothing, refuse.As(value.ErrInvalid, "may is %q; it must be read, add, write or own", s)
}

// Says describes the right in a sentence.
func (r Right) Says() string {
	switch r {
	case Read:
		return "may look, and change nothing"
	case Add:
		return "may look, count and append; may not overwrite or remove"
	case Write:
		return "may look and change everything"
	case Own, Admin:
		return "may do everything, and make links for others"
	}
	return fmt.Sprintf("may %s", r)
}
