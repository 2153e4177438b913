package boards

import (
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/mobile"
	"github.com/small-pantry/pantry/value"
)

// Records is a collection on a board.
type Records struct {
	b    *board.Board
	k    pantry.RecordsKey[map[string]value.Value]
	r    board.Records[map[string]value.Value]
	made bool
}

// Records returns the collection of a key on the board.
func (b *Board) Records(k *mobile.RecordsKey) (*Records, error) {
	one, err := handed(b, k)
	if err != nil {
		return nil, err
	}
	return recordsOn(b.b, one)
}

func recordsOn(b *board.Board, k pantry.RecordsKey[map[string]value.Value]) (r *Records, err error) {
	defer refused(&err)
	return &Records{b, k, board.OnRecords(b, k), true}, nil
}

func (r *Records) ready() error {
	if r == nil || !r.made {
		return handover.Misuse("this collection was not made by a board")
	}
	return nil
}

// do calls a function with a collection.
func (r *Records) do(f func() error) error {
	if err := r.ready(); err != nil {
		return err
	}
	return sent(f())
}

func (r *Records) with(one *mobile.Record, f func(map[string]value.Value) error) error {
	return r.do(func() error {
		m, err := one.ForBoard()
		if err != nil {
			return err
		}
		return f(m)
	})
}

// Add stores a record under a new random id of 26 characters, and returns the id. Without a network, with
// Options.Offline, the record is sent later under that id.
func (r *Records) Add(c *Call, one *mobile.Record) (id string, err error) {
	err = r.with(one, func(m map[string]value.Value) (err error) {
		id, err = r.r.Add(c.context(), m)
		return err
	})
	return id, err
}

// Put stores a record under an id and replaces an existing one.
func (r *Records) Put(c *Call, id string, one *mobile.Record) error {
	return r.with(one, func(m map[string]value.Value) error { return r.r.Put(c.context(), id, m) })
}

// Get returns a record as far as is known, and does not wait. If there is none, the error is
// absent; for another stored kind it is wrong-kind.
func (r *Records) Get(id string) (one *mobile.Record, err error) {
	err = r.do(func() error {
		e, found := r.b.Known(r.k.Name() + "/" + id)
		if !found || strings.Contains(id, "/") { // it is not a record of the collection
			return handover.Failure("absent", "there is no record "+id, pantry.ErrAbsent)
		}
		m, err := r.k.At(id).Decode(e.Value)
		if err == nil {
			one = mobile.RecordFromBoard(m)
		}
		return err
	})
	return one, err
}

// Drop removes a record if there is one.
func (r *Records) Drop(c *Call, id string) error {
	return r.do(func() error { return r.r.Drop(c.context(), id) })
}

// Clear removes all records.
func (r *Records) Clear(c *Call) error {
	return r.do(func() error { return r.r.Clear(c.context()) })
}

// Ids returns the ids of all known records, in order: numbers by size.
func (r *Records) Ids() (*mobile.Texts, error) {
	out := mobile.NewTexts()
	err := r.do(func() error {
		for id := range r.r.All() {
			out.Add(id)
		}
		return nil
	})
	return out, err
}

// Watch calls changed after each change of a record, and once at the beginning.
func (r *Records) Watch(run mobile.Runner, changed mobile.Handler) (*mobile.Watching, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	return mobile.WatchChanges(run, changed, handover.Each(r.r.Watch))
}
