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

// A Grant is what somebody may do on a board. The zero Grant may nothing.
type Grant struct {
	ID     string // of the token
	May    Right
	Prefix string    // sees and touches only names that begin so; empty: all
	Label  string    // what the token is called, and its holder's changes are by
	Until  time.Time // zero: without end
	Made   time.Time
	By     string // the label of the token that it was made with
}

// AdminName is what an admin's changes are by.
const AdminName = "admin"

// maxLabel is how long a label is at most, in bytes: beside it stands what an app calls
// itself.
const maxLabel = 64

// Check says what is wrong with a grant that is to be made now. The error wraps
// value.ErrInvalid.
func (g Grant) Check(now time.Time) error {
	if g.Prefix != "" {
		name, ends := strings.CutSuffix(g.Prefix, "/")
		if err := entry.CheckName(name); err != nil || !ends {
			return refuse.As(value.ErrInvalid, "the prefix %q must be the beginning of names, up to and with a slash, such as tank/", g.Prefix)
		}
	}
	if len(g.Label) > maxLabel || (entry.Author{By: g.Label}).Check() != nil {
		return refuse.As(value.ErrInvalid, "the label must be at most %d bytes of one printable line", maxLabel)
	}
	if g.Label == AdminName {
		return refuse.As(value.ErrInvalid, "the label %s is that of the server's admin", AdminName)
	}
	if !g.Until.IsZero() && !g.Until.After(now) {
		return refuse.As(value.ErrInvalid, "until is %s, which is past", g.Until.Format(time.RFC3339))
	}
	return nil
}

// Called is what the holder's changes are by: the label, and without one the ID.
func (g Grant) Called() string { return cmp.Or(g.Label, g.ID) }

// Over says whether the grant has ended.
func (g Grant) Over(now time.Time) bool { return !g.Until.IsZero() && !now.Before(g.Until) }

// Sees says whether a name exists for the holder.
func (g Grant) Sees(name string) bool { return strings.HasPrefix(name, g.Prefix) }

// Covers says whether other may no more than the holder, and only within his prefix.
func (g Grant) Covers(other Grant) bool { return other.May <= g.May && g.Sees(other.Prefix) }

// Needs says whether the holder may do what takes a right. The error is an
// ErrForbidden.
func (g Grant) Needs(r Right) error {
	switch {
	case g.May >= r:
		return nil
	case r == Admin:
		return refuse.As(wire.ErrForbidden, "this takes the admin token, which lies beside the server's data")
	}
	return refuse.As(wire.ErrForbidden, "this link %s; it takes one that may %s", g.May.Says(), r)
}

// Name says whether the holder may do something about a name. The error is an
// ErrForbidden, and the same whether there is something or not.
func (g Grant) Name(name string) error {
	if !g.Sees(name) {
		return refuse.As(wire.ErrForbidden, "this link is for names that begin with %s", g.Prefix)
	}
	return nil
}

// Narrow makes of a query what the holder may see of it. The error is an ErrForbidden
// where it asks for something else by name.
func (g Grant) Narrow(q *rules.Query) error {
	if g.Prefix == "" {
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

// Edits says whether the holder may make edits, whatever is stored. The error is a
// *rules.Refusal of the first that he may not, and an ErrForbidden.
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

// Guard says whether the holder may make an edit on what is stored and declared, beyond
// what Edits says: whoever may only add starts a name only where it is declared, or
// within his prefix, and cuts a list only as it is declared.
func (g Grant) Guard(tx *ledger.Tx, e entry.Edit) error {
	if g.May != Add {
		return nil
	}
	declared := entry.DeclaredFor(e.Name, tx.Declared)
	switch {
	case e.Op.Keep > 0 && (declared.Keep == 0 || e.Op.Keep < declared.Keep):
		return refuse.As(wire.ErrForbidden, "this link %s: it can't cut %s to %d items, which nobody declared", g.May.Says(), e.Name, e.Op.Keep)
	case g.Prefix == "" && declared.Kind == value.KindNone && !tx.Record(e.Name).Found():
		return refuse.As(wire.ErrForbidden, "nothing is stored under %s, which nobody declared: this link may add to what is there, and start what is declared", e.Name)
	}
	return nil
}

// Declaration says whether the holder may declare keys so. The error is a *rules.Refusal
// where it is about one of them, and an ErrForbidden.
func (g Grant) Declaration(d rules.Declaration) error {
	if d.Change || d.Closed != nil {
		if err := g.Needs(Own); err != nil {
			return err
		}
	}
	if d.Closed != nil && g.Prefix != "" {
		return refuse.As(wire.ErrForbidden, "this link is for names that begin with %s, and the list of declared keys is that of all names", g.Prefix)
	}
	for i, k := range d.Keys {
		if err := g.Name(keyPrefix(k)); err != nil {
			return &rules.Refusal{Edit: i, Err: err}
		}
	}
	return nil
}

// keyPrefix is what the names begin with that a key is about.
func keyPrefix(k entry.Declared) string {
	if k.Family {
		return k.Name + "/"
	}
	return k.Name
}

// Keys gives those keys that are about names which the holder sees.
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
