package rules

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

var (
	// ErrKeyReused is returned for a request under an idempotency key that another request used.
	ErrKeyReused = errors.New("key reused")
	// ErrTooLate is returned for a repeat if it is no longer known whether the request was done.
	ErrTooLate = errors.New("too late")
)

// A Request identifies a call, so that its repeat counts once
// (draft-ietf-httpapi-idempotency-key-header).
type Request struct {
	Token    string // the token; empty without tokens
	Instance string // the client
	Key      string
	Hash     string // of the request: see HashOf
	// Since is the mark at which the client first sent it, or the zero Mark.
	Since mark.Mark
	// Known reports whether a mark belongs to the board.
	Known func(mark.Mark) bool
}

// HashOf returns a hash of a request's content.
func HashOf(call string, edits []entry.Edit) string {
	b := []byte(call)
	for _, e := range edits {
		e.Seen = nil // a repeat can have seen more
		b = fmt.Appendf(e.AppendJSON(append(b, 0)), "%v", e.Cond)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:16])
}

// find returns the receipt of the request if it was done before.
func (r *Request) find(tx *ledger.Tx) (*ledger.Receipt, error) {
	done, dropped := tx.Receipt(r.Token, r.Instance, r.Key)
	switch {
	case done != nil && done.Hash != r.Hash:
		return nil, refuse.As(ErrKeyReused, "another request used the key %s; each new request needs a key of its own", scan.Quote(r.Key))
	case done != nil:
		return done, nil
	case r.Since != mark.Mark{} && (r.Since.Version < dropped || !r.Known(r.Since)):
		return nil, refuse.As(ErrTooLate, "outcome unknown: the receipt of this request has expired, and it was not done now; look at what is stored, and send it under a new key if it is still needed")
	}
	return nil, nil
}

// keep adds the receipt to the commit.
func (r *Request) keep(tx *ledger.Tx, j *judgement) {
	receipt := ledger.Receipt{Token: r.Token, Instance: r.Instance, Key: r.Key, Hash: r.Hash, Status: int64(j.status)}
	changed := make([]byte, len(j.results))
	var taken []value.Value
	var replaced []int64
	for i, one := range j.results {
		changed[i] = '0'
		if one.Changed {
			changed[i] = '1'
		}
		if !one.Taken.IsZero() && taken == nil {
			taken = make([]value.Value, len(j.results))
		}
		if taken != nil {
			taken[i] = one.Taken
		}
		if one.Replaced != nil {
			if replaced == nil {
				replaced = make([]int64, len(j.results))
			}
			replaced[i] = one.Replaced.Version
		}
	}
	if receipt.Changed = string(changed); taken != nil {
		receipt.Taken = scan.List(&taken, nil, value.Value.AppendJSON).Write(nil)
	}
	receipt.Replaced = replaced
	tx.Keep(receipt)
}

// repeat returns the outcome of the first request, with the present entries of its names.
func (j *judgement) repeat(tx *ledger.Tx, edits []entry.Edit, done *ledger.Receipt) error {
	j.repeats, j.status = done, int(done.Status)
	var taken []value.Value
	if done.Taken != nil {
		r := scan.New(done.Taken)
		err := r.Array(func() error {
			raw, err := r.Raw(value.MaxDepth)
			v := value.Value{}
			if err == nil && string(raw) != "null" {
				v, err = value.ParseAny(raw)
			}
			taken = append(taken, v)
			return err
		})
		if err != nil {
			return fmt.Errorf("read the receipt of version %d: %w", done.Version, err)
		}
	}
	for i, e := range edits {
		result := Result{Changed: i < len(done.Changed) && done.Changed[i] == '1'}
		if i < len(taken) {
			result.Taken = taken[i]
		}
		if i < len(done.Replaced) && done.Replaced[i] > 0 { // the value is in the history
			result.Replaced = &entry.Entry{Name: e.Name, Version: done.Replaced[i]}
		}
		j.results = append(j.results, result)
		switch {
		case e.Reset:
			j.touched(tx, entry.Restore{Prefix: &e.Prefix}, done.Version)
		case e.Restore != nil:
			j.touched(tx, *e.Restore, done.Version)
		default:
			j.notePresent(tx, e.Name)
		}
	}
	return nil
}

// touched notes the names of a selection that changed at a version or later.
func (j *judgement) touched(tx *ledger.Tx, of entry.Restore, version int64) {
	for name := range tx.ChangedSince(version - 1) {
		if of.Has(name) {
			j.notePresent(tx, name)
		}
	}
}

// notePresent records a name's present entry.
func (j *judgement) notePresent(tx *ledger.Tx, name string) {
	rec := tx.Record(name)
	j.note(name, rec, rec.Value)
}

// Recall completes what a repeated request replaced, from the history. What the history no longer holds
// stays a version without a value.
func (o Outcome) Recall(l *ledger.Ledger) error {
	for _, r := range o.Results {
		if r.Replaced == nil || !r.Replaced.Value.IsZero() {
			continue
		}
		name, version := r.Replaced.Name, r.Replaced.Version
		past, _, err := l.HistoryOf(ledger.HistoryQuery{Limit: 1, Before: version + 1, Has: func(other string) bool { return other == name }})
		if err != nil {
			return err
		}
		for _, c := range past {
			if c.Version == version {
				*r.Replaced = entry.Entry{Name: name, Value: c.Changes[0].New, Version: version, Updated: c.Time, By: c.By}
			}
		}
	}
	return nil
}

// Replaced reports whether an edit replaced something that its writer had not seen.
func (o Outcome) Replaced() bool {
	for _, r := range o.Results {
		if r.Replaced != nil {
			return true
		}
	}
	return false
}
