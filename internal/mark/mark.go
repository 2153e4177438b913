// Package mark says where a reader of a board stands: a version, and a tag that
// tells its commit apart from every other of that version, on this board, on a board
// that was put in its place, and on others.
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

// A Mark is a place in the history of a board. The zero Mark is none.
type Mark struct {
	Version int64
	Tag     string
}

// tagLen is the length of a tag, in hex digits.
const tagLen = 8

// Of gives the mark of a commit.
func Of(t ledger.Told) Mark {
	lately := &known[uint64(t.Version)%uint64(len(known))]
	if k := lately.Load(); k != nil && k.of == t {
		return k.mark
	}
	var buf [128]byte
	b := append(append(buf[:0], t.ID...), ' ')
	b = append(append(strconv.AppendInt(b, t.Version, 10), ' '), t.End.String()...)
	sum := sha256.Sum256(b)
	m := Mark{t.Version, hex.EncodeToString(sum[:tagLen/2])}
	lately.Store(&told{t, m})
	return m
}

// known are marks that were asked for lately, as polls of a board on which nothing changes ask
// for the same one over and over.
var known [256]atomic.Pointer[told]

type told struct {
	of   ledger.Told
	mark Mark
}

// At gives the mark of a version of a board; the zero Mark where it is not known.
func At(l *ledger.Ledger, version int64) Mark {
	if t, known := l.Told(version); known {
		return Of(t)
	}
	return Mark{}
}

// Known says whether a mark is that of a commit of the board from which on all that
// changed can be told.
func Known(l *ledger.Ledger, m Mark) bool { return m != Mark{} && At(l, m.Version) == m }

// String gives the mark as the wire has it, such as 17.5a3f9c10; empty for the zero Mark.
func (m Mark) String() string {
	if m.Tag == "" {
		return ""
	}
	return strconv.FormatInt(m.Version, 10) + "." + m.Tag
}

// Parse reads what String gives, but for the zero Mark. The error wraps
// value.ErrInvalid.
func Parse(s string) (Mark, error) {
	version, tag, _ := strings.Cut(s, ".")
	n, err := strconv.ParseInt(version, 10, 64)
	if err != nil || n < 0 || strconv.FormatInt(n, 10) != version || !isTag(tag) {
		return Mark{}, refuse.As(value.ErrInvalid, "%s is no mark such as 17.5a3f9c10: take one from an answer, as it is", scan.Quote(s))
	}
	return Mark{n, tag}, nil
}

// EntityTag gives the entity tag of a list at a mark; query tells what was asked for. It is
// weak, since a list is put together anew.
func (m Mark) EntityTag(query string) string { return `W/"` + m.String() + "." + query + `"` }

// InTag gives the mark in the entity tag of a list, and what tells its query.
func InTag(tag string) (m Mark, query string, err error) {
	tag = strings.Trim(strings.TrimPrefix(tag, "W/"), `"`)
	i := max(strings.LastIndex(tag, "."), 0)
	m, err = Parse(tag[:i])
	return m, strings.TrimPrefix(tag[i:], "."), err
}

func isTag(s string) bool {
	return len(s) == tagLen && !strings.ContainsFunc(s, func(c rune) bool { return (c < '0' || c > '9') && (c < 'a' || c > 'f') })
}
