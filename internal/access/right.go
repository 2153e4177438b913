// Package access says who may do what on a board: what the holder of a token may,
// under which names, and until when. It knows no HTTP.
package access

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/value"
)

// A Right is what somebody may do. Each may what those before it may.
type Right uint8

const (
	Nothing Right = iota
	Read
	Add   // add, append, raise, lower: may count, may not overwrite, take or remove
	Write // declaring too
	Own   // tokens, keys, forgetting
	Admin // every board, and which there are
)

var rights = [...]string{Read: "read", Add: "add", Write: "write", Own: "own"}

// String gives the right as it is written; an admin's is to own every board.
func (r Right) String() string {
	switch {
	case r == Nothing:
		return "nothing"
	case r >= Own:
		return rights[Own]
	}
	return rights[r]
}

// ParseRight reads what a token may. The error wraps value.ErrInvalid.
func ParseRight(s string) (Right, error) {
	for r := Read; r <= Own; r++ {
		if rights[r] == s {
			return r, nil
		}
	}
	return Nothing, refuse.As(value.ErrInvalid, "may is %q, and must be read, add, write or own", s)
}

// Says tells in a sentence what a holder may.
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
