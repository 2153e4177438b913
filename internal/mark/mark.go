// Package mark identifies a reader's cursor position on a board: a version, and a tag that
// distinguishes its commit from every other commit of that version, on this board, on its
// replacement, and on others.
package mark

import (
	"crypto/sha256"
	"encoding/hex"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Mark is a position in the history of a board. The zero Mark is no position.
type Mark struct {
	Version int64
	Tag     string
}

// tagLen is the length of a tag in hex digits.
const tagLen = 8

// Of returns the mark of a commit.
func Of(t ledger.CommitID) Mark {
	lately := &known[uint64(t.Version)%uint64(len(known))]
	if k := lately.Load(); k != nil && k.of == t {
		return k.mark
	}
	var buf [128]byte
	b := append(append(buf[:0], t.ID...), ' ')
	b = append(append(strconv.AppendInt(b, t.Version, 10), ' '), t.End.String()...)
	sum := sha256.Sum256(b)
	m := Mark{t.Version, hex.EncodeToString(sum[:tagLen/2])}
	lately.Store(&cached{t, m})
	return m
}

// known caches marks that were requested recently. Polls of a board without changes request the
// same mark each time. It serves the row "conditional GET of an unchanged list" in docs/benchmarks.md:
// without it, that call computes a SHA-256 more, and allocates 31 times in place of 29.
var known [256]atomic.Pointer[cached]

type cached struct {
	of   ledger.CommitID
	mark Mark
}

// At returns the mark of a version of a board, or the zero Mark if it is not known.
func At(l *ledger.Ledger, version int64) Mark {
	if t, known := l.CommitAt(version); known {
		return Of(t)
	}
	return Mark{}
}

// Known reports whether a mark is that of a commit of the board since which every change can be
// reported.
func Known(l *ledger.Ledger, m Mark) bool { return m != Mark{} && At(l, m.Version) == m }

// String returns the mark's form on the wire, such as 17.5a3f9c10, or "" for the zero Mark.
func (m Mark) String() string {
	if m.Tag == "" {
		return ""
	}
	return strconv.FormatInt(m.Version, 10) + "." + m.Tag
}

// Parse parses the result of String, except that of the zero Mark. The error wraps
// value.ErrInvalid.
func Parse(s string) (Mark, error) {
	version, tag, _ := strings.Cut(s, ".")
	n, err := strconv.ParseInt(version, 10, 64)
	if err != nil || n < 0 || strconv.FormatInt(n, 10) != version || !isTag(tag) {
		return Mark{}, refuse.As(value.ErrInvalid, "%s is not a mark such as 17.5a3f9c10: use one from an answer, unchanged", scan.Quote(s))
	}
	return Mark{n, tag}, nil
}

// EntityTag returns the entity tag of a list at a mark; query identifies the request. It is weak,
// since each answer is built again.
func (m Mark) EntityTag(query string) string { return `W/"` + m.String() + "." + query + `"` }

// InTag returns the mark in the entity tag of a list, and the part that identifies the query.
func InTag(tag string) (m Mark, query string, err error) {
	tag = strings.Trim(strings.TrimPrefix(tag, "W/"), `"`)
	i := max(strings.LastIndex(tag, "."), 0)
	m, err = Parse(tag[:i])
	return m, strings.TrimPrefix(tag[i:], "."), err
}

func isTag(s string) bool {
	return len(s) == tagLen && !strings.ContainsFunc(s, func(c rune) bool { return (c < '0' || c > '9') && (c < 'a' || c > 'f') })
}
