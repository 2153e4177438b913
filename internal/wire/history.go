package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A History is a board's newest commits, newest first.
type History struct {
	Board   string
	Version int64
	Commits []entry.Commit
	Next    int64 // older ones exist: request those before this version
}

func (h *History) fields() []scan.Field {
	return []scan.Field{
		scan.Always("board", &h.Board), scan.Always("version", &h.Version),
		scan.Always("commits", scan.List(&h.Commits, entry.ReadCommit, entry.Commit.AppendJSON)), scan.Maybe("next", &h.Next),
	}
}

// AppendJSON appends the history as an object.
func (h *History) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, h.fields()...) }

// ReadHistory reads a history as AppendJSON writes it.
func ReadHistory(data []byte) (*History, error) {
	h := &History{}
	err := scan.ReadFields(data, value.MaxDepth, h.fields()...)
	if err == nil && h.Board == "" {
		err = refuse.As(value.ErrInvalid, "it names no board")
	}
	return h, err
}
