package rules

import (
	"errors"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
)

// ErrQuota is returned for a change that would make a board larger than its limits.
var ErrQuota = errors.New("quota")

// Limits bound what a place holds; 0 means no limit.
type Limits struct {
	Names int
	Bytes int64 // of the names and the JSON of their values
	// Work is the maximum number of bytes that the edits of one commit encode, without restores.
	Work int64
}

// BoardLimits are the default limits of a board.
var BoardLimits = Limits{Names: 10_000, Bytes: 32 << 20, Work: 16 << 20}

// check returns an error if a change exceeds the limits and makes the place larger. The error for a
// caller with a prefix does not contain the size of the board.
func (l Limits) check(tx *ledger.Tx, prefix string) error {
	if l == (Limits{}) {
		return nil
	}
	names, bytes := tx.Grown()
	over := names > 0 && l.Names > 0 && tx.Count() > l.Names || bytes > 0 && l.Bytes > 0 && tx.Size() > l.Bytes
	switch {
	case over && prefix != "":
		return refuse.As(ErrQuota, "the board is full: remove entries that are not needed")
	case names > 0 && l.Names > 0 && tx.Count() > l.Names:
		return refuse.As(ErrQuota, "the board would have %d names, and the limit is %d: remove names that are not needed, or keep many items in one list", tx.Count(), l.Names)
	case bytes > 0 && l.Bytes > 0 && tx.Size() > l.Bytes:
		return refuse.As(ErrQuota, "the board would hold %d bytes, and the limit is %d: remove entries that are not needed", tx.Size(), l.Bytes)
	}
	return nil
}
