package place

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Difference is the difference between two lists of entries.
type Difference struct {
	Added, Gone []entry.Entry
	Changed     []entry.Change
}

// Any reports whether there is a difference.
func (d Difference) Any() bool { return len(d.Added)+len(d.Gone)+len(d.Changed) > 0 }

// Compare compares two lists that are in order of their names.
func Compare(one, two []entry.Entry) (d Difference) {
	for len(one) > 0 || len(two) > 0 {
		switch {
		case len(two) == 0 || len(one) > 0 && one[0].Name < two[0].Name:
			d.Gone, one = append(d.Gone, one[0]), one[1:]
		case len(one) == 0 || two[0].Name < one[0].Name:
			d.Added, two = append(d.Added, two[0]), two[1:]
		default:
			if !value.Equal(one[0].Value, two[0].Value) {
				d.Changed = append(d.Changed, entry.Change{Name: one[0].Name, Old: one[0].Value, New: two[0].Value})
			}
			one, two = one[1:], two[1:]
		}
	}
	return d
}

// Changes returns the changes after which one list has the entries of the other and, with exactly, no
// other entries.
func (d Difference) Changes(exactly bool) (changes []entry.Change) {
	for _, e := range d.Added {
		changes = append(changes, entry.Change{Name: e.Name, New: e.Value})
	}
	changes = append(changes, d.Changed...)
	if exactly {
		for _, e := range d.Gone {
			changes = append(changes, entry.Change{Name: e.Name, Old: e.Value})
		}
	}
	return changes
}

// MarshalJSON returns {"added":[…],"gone":[…],"changed":[…]}.
func (d Difference) MarshalJSON() ([]byte, error) {
	write := entry.Entry.AppendJSON
	return scan.AppendFields(nil, scan.Always("added", scan.List(&d.Added, nil, write)), scan.Always("gone", scan.List(&d.Gone, nil, write)),
		scan.Always("changed", scan.List(&d.Changed, nil, entry.Change.AppendJSON))), nil
}
