package ledger

import (
	"strconv"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// MaxValue is the maximum size of a value in bytes of JSON.
const MaxValue = 1 << 20

// A change sets a name to a value, or drops it if there is no value.
type change struct {
	node *Node // nil if not known
	name string
	val  value.Value
	json []byte // the JSON of val, if it was made before the queue
	// Record.First if earlier lines don't have it; else 0
	first int64
}

// A commit is one line of the journal.
type commit struct {
	Stamp
	text    string // At as text, if known
	synced  int64
	changes []change
	keys    []entry.Declared
	schema  int64 // -1: not in the line
	closed  int   // declared keys only: 1, any name: 0; -1: not in the line
	receipt *Receipt
	moved   []*Receipt // of other commits, whose lines are gone
	owes    []string   // names whose old bytes must be erased; empty means everything, nil nothing
	over    int64      // the line replaces this many commits and holds their net change; 0: it is one commit
	end     journal.End
}

// mark returns the mark of the decoded line.
func (c *commit) mark() journal.Mark {
	return journal.Mark{Version: c.Version, Synced: c.synced, Over: c.over, End: c.end}
}

// appendLine encodes c as a line.
func (c *commit) appendLine(dst []byte) []byte {
	start := len(dst)
	dst = c.appendChanges(c.appendHead(dst))
	keys := array{member: `,"keys":[`}
	for _, k := range c.keys {
		dst = k.AppendJSON(keys.next(dst))
	}
	dst = keys.end(dst)
	if c.owes != nil {
		dst = append(dst, `,"owes":[`...)
		for i, name := range c.owes {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = scan.AppendString(dst, name)
		}
		dst = append(dst, ']')
	}
	if c.receipt != nil {
		dst = c.receipt.appendJSON(append(dst, `,"receipt":`...), false)
	}
	receipts := array{member: `,"receipts":[`}
	for _, r := range c.moved {
		dst = r.appendJSON(receipts.next(dst), true)
	}
	dst = receipts.end(dst)
	if c.extra != nil {
		dst = append(dst, c.extra.line...)
	}
	return journal.Finish(dst, start)
}

// appendHead appends the members before the changes.
func (c *commit) appendHead(dst []byte) []byte {
	dst = append(dst, `{"version":`...)
	dst = appendInt(dst, c.Version)
	dst = append(dst, `,"at":"`...)
	if c.text != "" {
		dst = append(dst, c.text...)
	} else {
		dst = entry.AppendTime(dst, c.Time())
	}
	dst = append(dst, '"')
	if c.over > 0 {
		dst = append(dst, `,"over":`...)
		dst = appendInt(dst, c.over)
		dst = appendText(dst, `,"end":`, c.end.String())
	}
	if c.synced != c.Version-1 {
		dst = append(dst, `,"synced":`...)
		dst = appendInt(dst, c.synced)
	}
	dst = appendText(dst, `,"by":`, c.By)
	dst = appendText(dst, `,"from":`, c.From)
	if c.schema >= 0 {
		dst = append(dst, `,"schema":`...)
		dst = appendInt(dst, c.schema)
	}
	if c.closed >= 0 {
		dst = strconv.AppendBool(append(dst, `,"closed":`...), c.closed == 1)
	}
	return dst
}

// appendChanges appends the entries that are set, and the names that are dropped.
func (c *commit) appendChanges(dst []byte) []byte {
	set := array{member: `,"set":[`}
	drop := array{member: `,"drop":[`}
	dropped := 0
	for i := range c.changes {
		if ch := &c.changes[i]; ch.val.IsZero() {
			dropped++
		} else {
			dst = entry.AppendStored(set.next(dst), ch.name, ch.val, ch.json)
			if ch.first > 0 && (ch.first != c.Version || c.over > 0) {
				dst = append(appendInt(append(dst[:len(dst)-1], `,"first":`...), ch.first), '}')
			}
			if c.extra != nil {
				dst = append(append(dst[:len(dst)-1], c.extra.entries[ch.name]...), '}')
			}
		}
	}
	dst = set.end(dst)
	for i := 0; i < len(c.changes) && dropped > 0; i++ {
		if ch := &c.changes[i]; ch.val.IsZero() {
			dst = scan.AppendString(drop.next(dst), ch.name)
		}
	}
	return drop.end(dst)
}

// An array encodes a member with an array value, or nothing if there are no items.
type array struct {
	member string
	open   bool
}

// next appends the separator before the next item.
func (a *array) next(dst []byte) []byte {
	if a.open {
		return append(dst, ',')
	}
	a.open = true
	return append(dst, a.member...)
}

func (a *array) end(dst []byte) []byte {
	if !a.open {
		return dst
	}
	return append(dst, ']')
}

func appendInt(dst []byte, n int64) []byte { return value.Int(n).AppendJSON(dst) }

func appendText(dst []byte, member, s string) []byte {
	if s == "" {
		return dst
	}
	return scan.AppendString(append(dst, member...), s)
}
