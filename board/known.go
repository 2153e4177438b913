package board

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// saveAfter is the time until known values are saved.
const saveAfter = time.Second

// known returns what was known of a name last.
func (o *outbox) known(name string) (entry.Entry, bool) {
	o.kmu.Lock()
	defer o.kmu.Unlock()
	e, found := o.last[name]
	return e, found
}

// knownUnder returns the known names with a prefix.
func (o *outbox) knownUnder(prefix string) (names []string) {
	o.kmu.Lock()
	defer o.kmu.Unlock()
	for name := range o.last {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	return names
}

// confirmed returns when the server last confirmed what is known.
func (o *outbox) confirmed() time.Time {
	o.kmu.Lock()
	defer o.kmu.Unlock()
	return o.asOf
}

// confirm records a time at which the server confirmed what is known.
func (o *outbox) confirm(at time.Time) {
	o.kmu.Lock()
	defer o.kmu.Unlock()
	if at.After(o.asOf) {
		o.asOf = at
	}
}

// learn records what is known, to be saved soon. view.mu can be held.
func (o *outbox) learn(names []string, entries map[string]entry.Entry) {
	if len(names) == 0 {
		return
	}
	o.kmu.Lock()
	defer o.kmu.Unlock()
	o.asOf = time.Now()
	for _, name := range names {
		if len(knownPrefix)+len(name) > 256 {
			continue
		}
		e := entries[name]
		if o.dirty[name] = e; e.Value.IsZero() {
			delete(o.last, name)
		} else {
			o.last[name] = e
		}
	}
	if o.saving == nil && o.ctx.Err() == nil {
		o.saving = time.AfterFunc(saveAfter, func() {
			if err := o.saveKnown(); err != nil {
				o.report("", fmt.Errorf("the known values can't be saved for the next launch: %w", err))
			}
		})
	}
}

// saveKnown saves the known values.
func (o *outbox) saveKnown() error {
	o.kmu.Lock()
	dirty, asOf := o.dirty, o.asOf
	o.dirty, o.saving = map[string]entry.Entry{}, nil
	o.kmu.Unlock()
	if len(dirty) == 0 && asOf.IsZero() {
		return nil
	}
	return o.ns.Commit(func(batch *pantry.Batch) error {
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
