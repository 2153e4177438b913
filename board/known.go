package board

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

// known returns what was known of a name in an earlier launch.
func (q *queue) known(name string) (Entry, bool) {
	e, found := q.last[name]
	return e, found
}

// learn records what is known, to be saved soon. Board.mu must be held.
func (q *queue) learn(names []string, entries map[string]Entry) {
	if len(names) == 0 {
		return
	}
	q.kmu.Lock()
	defer q.kmu.Unlock()
	for _, name := range names {
		if len(knownPrefix)+len(name) <= 256 {
			q.dirty[name] = entries[name]
		}
	}
	if q.saving == nil && q.b.ctx.Err() == nil {
		q.saving = time.AfterFunc(saveAfter, func() {
			if err := q.saveKnown(); err != nil {
				q.b.problem("", fmt.Errorf("the known values can't be saved for the next launch: %w", err))
			}
		})
	}
}

// saveKnown saves the known values.
func (q *queue) saveKnown() error {
	q.kmu.Lock()
	dirty := q.dirty
	q.dirty, q.saving = map[string]Entry{}, nil
	q.kmu.Unlock()
	asOf := q.b.confirmed()
	if len(dirty) == 0 && asOf.IsZero() {
		return nil
	}
	return q.ns.Commit(func(batch *pantry.Batch) error {
		if !asOf.IsZero() {
			if err := batch.Put(asOfName, value.Time(asOf)); err != nil {
				return err
			}
		}
		for _, name := range slices.Sorted(maps.Keys(dirty)) {
			e, at := dirty[name], knownPrefix+name
			if e.Value.IsZero() {
				if _, found := batch.Entry(at); !found {
					continue
				}
				if err := batch.Drop(at); err != nil {
					return err
				}
				continue
			}
			v, err := value.ParseAny(e.AppendJSON(nil))
			if err == nil {
				err = batch.Put(at, v)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}
