package pantry

import (
	"context"
	"iter"
	"strings"

	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/records"
	"github.com/small-pantry/pantry/internal/sorted"
)

// An ItemChange is a change of one record: see Records.Changes.
type ItemChange[T any] struct {
	Old, New T    // the zero T where there was or is no usable record
	Had, Has bool // whether the record existed before, and exists now
	First    bool // the record existed when Changes began
}

// Changes yields every record now, with First set, and then each record that was added, changed or
// dropped. A slow body gets several changes of one record as one. It ends as Watch does.
func (r Records[T]) Changes(ctx context.Context) iter.Seq2[string, ItemChange[T]] {
	all := r.bound()
	return func(yield func(string, ItemChange[T]) bool) {
		records.Changes(all.watch(ctx), all.newest, func(id string, c records.Change) bool {
			return yield(id, ItemChange[T]{keydef.Value[T](c.Old), keydef.Value[T](c.New), c.Had, c.Has, c.First})
		})
	}
}

// newest returns a usable record, and the version that changed it.
func (r recordSet) newest(id string) (x any, version int64, found bool) {
	n := r.namespace().l.Find(r.name(id))
	if n == nil || !n.Record().Found() {
		return nil, 0, false
	}
	rec := n.Record()
	x, err := r.c.Decode(rec.Value)
	return x, rec.Version, err == nil
}

// Watch yields all ids now, and then, after each change, the ids of the records that were added,
// changed or dropped, in the order of All: see Namespace.Watch.
func (r Records[T]) Watch(ctx context.Context) iter.Seq[[]string] { return r.bound().watch(ctx) }

func (r recordSet) watch(ctx context.Context) iter.Seq[[]string] {
	ns, prefix := r.namespace(), r.c.name+"/"
	if r.at.batch() != nil {
		misuse("Watch of %s in a batch: watch the records of the namespace", r.c.name)
	}
	return func(yield func([]string) bool) {
		r.markRead()
		for names := range ns.watch(ctx, nil, []string{prefix}) {
			var told []recordEntry
			now := ns.l.Snapshot()
			for _, name := range names {
				if part := name[len(prefix):]; !strings.Contains(part, "/") {
					told = append(told, recordEntry{r.c.ID(part), now.Record(name)})
				}
			}
			now.Release()
			sorted.By(told, inOrder)
			ids := make([]string, len(told))
			for i, e := range told {
				ids[i] = e.id
			}
			if !yield(ids) {
				return
			}
		}
	}
}
