package access

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// A Grant is what the holder of a token may do on a board. The zero Grant allows nothing.
type Grant struct {
	ID     string // of the token
	May    Right
	Prefix string    // the holder sees only names with this prefix; empty means all
	Label  string    // the token's label, which is recorded with its holder's changes
	Until  time.Time // zero means without end
	Made   time.Time
	By     string // the label of the token that made this one
}

// AdminName is recorded with an admin's changes.
const AdminName = "admin"

// maxLabel is the maximum length of a label in bytes. The app's own name is recorded beside it.
const maxLabel = 64

// Check returns an error that wraps value.ErrInvalid if a new grant is invalid.
func (g Grant) Check(now time.Time) error {
	if g.Prefix != "" {
		name, ends := strings.CutSuffix(g.Prefix, "/")
		if err := entry.CheckName(name); err != nil || !ends {
			return refuse.As(value.ErrInvalid, "the prefix %q must be the beginning of names up to a slash, such as tank/", g.Prefix)
		}
	}
	if len(g.Label) > maxLabel || (entry.Author{By: g.Label}).Check() != nil {
		return refuse.As(value.ErrInvalid, "the label must be at most %d bytes of one printable line", maxLabel)
	}
	if g.Label == AdminName {
		return refuse.As(value.ErrInvalid, "the label %s belongs to the server's admin", AdminName)
	}
	if !g.Until.IsZero() && !g.Until.After(now) {
		return refuse.As(value.ErrInvalid, "until is %s, which is in the past", g.Until.Format(time.RFC3339))
	}
	return nil
}

// Called returns what is recorded with the holder's changes: the label, or the ID if there is none.
func (g Grant) Called() string { return cmp.Or(g.Label, g.ID) }

// Over reports whether the grant has ended.
func (g Grant) Over(now time.Time) bool { return !g.Until.IsZero() && !now.Before(g.Until) }

// Sees reports whether the holder can see a name.
func (g Grant) Sees(name string) bool { return strings.HasPrefix(name, g.Prefix) }

// Covers reports whether other allows no more than g, within g's prefix.
func (g Grant) Covers(other Grant) bool { return other.May <= g.May && g.Sees(other.Prefix) }

// Needs returns an ErrForbidden if the holder does not have a right.
func (g Grant) Needs(r Right) error {
	switch {
	case g.May >= r:
		return nil
	case r == Admin:
		return refuse.As(wire.ErrForbidden, "this needs the admin token, which is beside the server's data")
	}
	return refuse.As(wire.ErrForbidden, "this link %s; this needs one that may %s", g.May.Says(), r)
}

// Name returns an ErrForbidden if the holder can't use a name. The error is the same whether the
// name exists or not.
func (g Grant) Name(name string) error {
	if !g.Sees(name) {
		return refuse.As(wire.ErrForbidden, "this link reaches only names that begin with %s", g.Prefix)
	}
	return nil
}

// Narrow limits a query to what the holder sees. It returns an ErrForbidden if the query names
// something else.
func (g Grant) Narrow(q *rules.Query) error {
	if q.Within = g.Prefix; g.Prefix == "" {
		return nil
	}
	for _, name := range slices.Concat(q.Names, q.Prefixes) {
		if err := g.Name(name); err != nil {
			return err
		}
	}
	if len(q.Names)+len(q.Prefixes) == 0 {
		q.Prefixes = []string{g.Prefix}
	}
	return nil
}

// Edits returns an error if the holder may not make edits in any state of the board: a *rules.Refusal of
// the first such edit, with an ErrForbidden.
func (g Grant) Edits(edits []entry.Edit) error {
	for i, e := range edits {
		if err := g.edit(e); err != nil {
			return &rules.Refusal{Edit: i, Err: err}
		}
	}
	return nil
}

func (g Grant) edit(e entry.Edit) error {
	switch {
	case e.Reset:
		if err := g.Name(e.Prefix); err != nil {
			return err
		}
		return g.Needs(Write)
	case e.Restore != nil:
		about := slices.Clone(e.Restore.Names)
		if e.Restore.Prefix != nil {
			about = append(about, *e.Restore.Prefix)
		}
		for _, name := range about {
			if err := g.Name(name); err != nil {
				return err
			}
		}
		return g.Needs(Write)
	}
	if err := g.Name(e.Name); err != nil {
		return err
	}
	switch e.Op.Verb {
	case value.Add, value.Append, value.Raise, value.Lower:
		return g.Needs(Add)
	}
	return g.Needs(Write)
}

// Guard checks an edit against what is stored and declared, beyond Edits. A holder with the right
// to add starts a name only if it is declared or within the holder's prefix, and truncates a list
// only as declared.
func (g Grant) Guard(tx *ledger.Tx, e entry.Edit) error {
	if g.May != Add {
		return nil
	}
	declared := tx.DeclaredFor(e.Name)
	switch {
	case e.Op.Keep > 0 && (declared.Keep == 0 || e.Op.Keep < declared.Keep):
		return refuse.As(wire.ErrForbidden, "this link %s: it can't cut %s to %d items, since no app declared that", g.May.Says(), e.Name, e.Op.Keep)
	case g.Prefix == "" && declared.Kind == value.KindNone && !tx.Record(e.Name).Found():
		return refuse.As(wire.ErrForbidden, "nothing is stored under %s, and no app declared it: this link can add to existing entries and start declared ones", e.Name)
	}
	return nil
}

// Declaration returns an error if the holder may not make a declaration: an ErrForbidden, and a
// *rules.Refusal if it is about one key.
func (g Grant) Declaration(d rules.Declaration) error {
	if d.Change || d.Closed != nil {
		if err := g.Needs(Own); err != nil {
			return err
		}
	}
	if d.Closed != nil && g.Prefix != "" {
		return refuse.As(wire.ErrForbidden, "this link reaches only names that begin with %s, and closing the list of keys concerns all names", g.Prefix)
	}
	for i, k := range d.Keys {
		if err := g.Name(keyPrefix(k)); err != nil {
			return &rules.Refusal{Edit: i, Err: err}
		}
	}
	return nil
}

// keyPrefix returns the prefix of the names that a key covers.
func keyPrefix(k entry.Declared) string {
	if k.Family {
		return k.Name + "/"
	}
	return k.Name
}

// Keys returns the keys for names that the holder sees.
func (g Grant) Keys(keys []entry.Declared) []entry.Declared {
	if g.Prefix == "" {
		return keys
	}
	var seen []entry.Declared
	for _, k := range keys {
		if about := keyPrefix(k); g.Sees(about) || k.Family && strings.HasPrefix(g.Prefix, about) {
			seen = append(seen, k)
		}
	}
	return seen
}
