package rules

import (
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// sizeOfMembers is about the length of an entry without its name and value.
const sizeOfMembers = 100

// Size returns about the length of the page that Read would return. It stops counting above most, so that its time
// does not depend on the board.
func (q Query) Size(l *ledger.Ledger, most int) (n int) {
	snap := l.Snapshot()
	defer snap.Release()
	since, _ := q.oldest(l)
	for e := range q.changed(snap, since.Version) {
		if n += sizeOfMembers + len(e.Name); !q.Bare && e.Record.Found() {
			n += SizeOf(e.Record.Value, most)
		}
		if n > most {
			break
		}
	}
	return n
}

// SizeOf returns about the length of a value in an answer, in a time that does not depend on it for a
// text, and not over most by much.
func SizeOf(v value.Value, most int) (n int) {
	switch v.Kind() {
	case value.KindText, value.KindBytes, value.KindSealed:
		return v.Len()
	case value.KindList:
		for i := 0; i < v.Len() && n <= most; i++ {
			n += 2 + SizeOf(v.Item(i), most-n)
		}
	case value.KindMap:
		for _, m := range v.Members() {
			if n += 4 + len(m.Name) + SizeOf(m.Value, most-n); n > most {
				break
			}
		}
	default:
		return 8
	}
	return n
}
