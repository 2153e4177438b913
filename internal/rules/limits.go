package rules

import (
	"errors"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
)

// ErrQuota is returned for what would make a board larger than it may be.
var ErrQuota = errors.New("quota")

// Limits are how much a place may hold; 0: any number.
type Limits struct {
	Names int
	Bytes int64 // of the names and the JSON of their values
	// Work is how many bytes the edits of one commit encode, but for a restore.
	Work int64
}

// BoardLimits are those of a board of which nothing else is said.
var BoardLimits = Limits{Names: 10_000, Bytes: 32 << 20, Work: 16 << 20}

// check refuses what would take more than the limits, and has anything more than
// before.
func (l Limits) check(tx *ledger.Tx) error {
	if l == (Limits{}) {
		return nil
	}
	names, bytes := tx.Grown()
	switch {
	case names > 0 && l.Names > 0 && tx.Count() > l.Names:
		return refuse.As(ErrQuota, "the board would have %d names, and %d is the most: remove what is not needed any more, or keep many items in one list", tx.Count(), l.Names)
	case bytes > 0 && l.Bytes > 0 && tx.Size() > l.Bytes:
		return refuse.As(ErrQuota, "the board would hold %d bytes, and %d is the most: remove what is not needed any more", tx.Size(), l.Bytes)
	}
	return nil
}
