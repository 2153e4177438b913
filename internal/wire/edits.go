package wire

import (
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// AppendEdits appends a commit's body.
func AppendEdits(dst []byte, edits []entry.Edit) []byte {
	return scan.AppendFields(dst, scan.Always("ops", scan.List(&edits, nil, entry.Edit.AppendJSON)))
}

// MaxEdits is the maximum number of edits of a commit.
const MaxEdits = 1000

// ReadEdits reads a commit's body, strictly. The error is a *rules.Refusal for an invalid edit, and
// otherwise wraps value.ErrInvalid.
func ReadEdits(data []byte) (edits []entry.Edit, err error) {
	var refused error
	r := scan.New(data)
	err = r.Object(func(member []byte) error {
		if string(member) != "ops" {
			refused = refuse.As(value.ErrInvalid, "a commit has no member %s; it has ops", scan.Quote(string(member)))
			return refused
		}
		return r.Array(func() error {
			raw, err := r.Raw(value.MaxDepth + 2)
			if err != nil {
				refused = &rules.Refusal{Edit: len(edits), Err: refuse.As(value.ErrInvalid, "it can't be read: %v", err)}
				return refused
			}
			if len(edits) >= MaxEdits { // the others are only counted
				edits = append(edits, entry.Edit{})
				return nil
			}
			e, err := entry.ReadEdit(raw)
			if err != nil {
				refused = &rules.Refusal{Edit: len(edits), Err: err}
				return refused
			}
			edits = append(edits, e)
			return nil
		})
	})
	if err == nil {
		err = r.End()
	}
	switch {
	case refused != nil:
		return nil, refused
	case err != nil:
		return nil, refuse.As(value.ErrInvalid, `the body is not a commit such as {"ops":[{"op":"put","name":"gate/open","value":true}]}: %v`, err)
	case len(edits) == 0 || len(edits) > MaxEdits:
		return nil, refuse.As(value.ErrInvalid, "the commit has %d ops; it must have from 1 to %d", len(edits), MaxEdits)
	}
	return edits, nil
}
