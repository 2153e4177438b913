package board

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/records"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Records is a collection on a board. Each record is an entry. It is safe for concurrent use. The
// zero Records panics.
type Records[T any] struct {
	_ [0]*T // so that Records can't be converted to those of another type
	x *recordSet
}

// A recordSet is what Records does apart from T: where a record is an any, it is a *T.
type recordSet struct {
	b    *Board
	k    keydef.Collection
	name string // of the collection
}

// An ItemChange is a change of one record: see Records.Changes.
type ItemChange[T any] = pantry.ItemChange[T]

// OnRecords binds the collection of a key to a board. The board requests all of it from now on.
func OnRecords[T any](b *Board, k pantry.RecordsKey[T]) Records[T] {
	b.mayHave(k)
	b.view.keepPrefix(k.Name() + "/")
	b.poller.start()
	return Records[T]{x: &recordSet{b, keydef.OfRecords(k), k.Name()}}
}

func (r Records[T]) bound() *recordSet {
	if r.x == nil {
		panic("board: a zero Records was used; get one from OnRecords")
	}
	return r.x
}

// nameOf returns the name of a record's entry.
func (x *recordSet) nameOf(op, id string) (string, error) {
	part := x.k.Part(id)
	name := x.name + "/" + part
	err := pantry.CheckName(name)
	if err == nil && strings.Contains(part, "/") {
		err = refuse.As(pantry.ErrInvalid, "an id can't contain a \"/\", as %s does", scan.Quote(id))
	}
	return name, x.b.conn.fail(op, x.name, err)
}

// id returns the id of a record for the name of its entry; ok is false for another name.
func (x *recordSet) id(name string) (id string, ok bool) {
	part, ok := strings.CutPrefix(name, x.name+"/")
	if !ok || strings.Contains(part, "/") {
		return "", false
	}
	return x.k.ID(part), true
}

// A knownRecord is a record as far as is known.
type knownRecord struct {
	id string
	e  entry.Entry
}

// known returns what is known of the records, in order: ids that are numbers first, by size, then the
// others by their bytes.
func (x *recordSet) known() (all []knownRecord) {
	for _, e := range x.b.view.under(x.name + "/") {
		if id, ok := x.id(e.Name); ok {
			all = append(all, knownRecord{id, e})
		}
	}
	slices.SortFunc(all, func(a, b knownRecord) int { return compareIDs(a.id, b.id) })
	return all
}

func compareIDs(a, b string) int {
	order, _ := records.Compare(a, b)
	return order
}

// All iterates over the known records: ids that are numbers first, by size, then the others by
// their bytes, which for ids of Add is the order in which they were added. A record that can't be used
// is left out and reported as a problem.
func (r Records[T]) All() iter.Seq2[string, T] { return keydef.Records[T](r.bound().all()) }

func (x *recordSet) all() iter.Seq2[string, any] {
	return func(yield func(string, any) bool) {
		for _, one := range x.known() {
			rec, err := x.k.Record(one.id).Decode(one.e.Value)
			if err != nil {
				x.b.report.problem(one.e.Name, x.b.unusable(one.e, err))
				continue
			}
			if !yield(one.id, rec) {
				return
			}
		}
	}
}

// Sorted is All in the order of compare, which returns a negative number if a comes before b. Records
// that compare as equal are in the order of All.
func (r Records[T]) Sorted(compare func(a, b T) int) iter.Seq2[string, T] {
	return keydef.Records[T](records.Sorted(r.bound().all(), keydef.Order(compare)))
}

// Len returns the number of known records, including those that can't be used.
func (r Records[T]) Len() int { return len(r.bound().known()) }

// Get returns a record as far as is known. If it is absent or can't be used, Get returns the default of
// its key, which for RecordsOf is the zero T.
func (r Records[T]) Get(id string) T { return keydef.Value[T](r.bound().get(id)) }

func (x *recordSet) get(id string) any {
	k := x.k.Record(id)
	name, err := x.nameOf("get", id)
	if e, found := x.b.Known(name); err == nil && found {
		if rec, err := k.Decode(e.Value); err == nil {
			return rec
		}
	}
	return k.Default()
}

// Lookup requests a record from the server: see Var.Lookup. An invalid id is pantry.ErrInvalid.
func (r Records[T]) Lookup(ctx context.Context, id string) (rec T, found bool, err error) {
	if _, err := r.bound().nameOf("look up", id); err != nil {
		return rec, false, err
	}
	return r.At(id).Lookup(ctx)
}

// At returns one record as a variable, on which Add, Raise, Append, SetIf and the like work. Writing it
// creates the record. A text that can't be an id is pantry.ErrInvalid when the variable is written.
func (r Records[T]) At(id string) Var[T] { return variable[T](r.bound().at(id)) }

func (x *recordSet) at(id string) *binding {
	k := x.k.Record(id)
	if _, err := x.nameOf("use", id); err != nil { // it must not be requested
		n := &node{name: k.Name()}
		n.publish(&remote{entry: entry.Entry{Name: k.Name()}})
		at := newBinding(x.b, k, n)
		at.bad = err
		return at
	}
	n := x.b.view.use(k.Name())
	x.b.setCheck(n, k)
	return newBinding(x.b, k, n)
}

// Add stores a new record and returns its id, which is made of the time and random bits, so that it
// needs no network and no two phones make the same. The errors are those of Var.Set. With Offline, the
// id is also valid if the error is ErrQueued.
func (r Records[T]) Add(ctx context.Context, rec T) (id string, err error) {
	x := r.bound()
	id = x.b.newID()
	if err = x.put(ctx, "add", id, &rec); err != nil && !errors.Is(err, ErrQueued) {
		id = ""
	}
	return id, err
}

// Put stores a record under an id and replaces an existing one. An invalid id is pantry.ErrInvalid;
// other errors are those of Var.Set.
func (r Records[T]) Put(ctx context.Context, id string, rec T) error {
	return r.bound().put(ctx, "put", id, &rec)
}

func (x *recordSet) put(ctx context.Context, op, id string, rec any) error {
	name, err := x.nameOf(op, id)
	if err != nil {
		return err
	}
	k := x.k.Record(id)
	val, err := k.Encode(rec)
	if err != nil {
		return x.b.conn.fail(op, name, err)
	}
	if e, found := x.b.Known(name); found {
		val = k.Merged(val, e.Value)
	}
	_, err = x.b.write(ctx, op, []entry.Edit{{Name: name, Op: value.Op{Verb: value.Put, Operand: val, Kind: val.Kind()}}})
	return err
}

// Update stores what f makes of a record: see Var.Update. If there is no such record, the error is
// pantry.ErrAbsent.
func (r Records[T]) Update(ctx context.Context, id string, f func(old T) (T, error)) (now T, err error) {
	x := r.bound()
	name, err := x.nameOf("update", id)
	if err != nil {
		return now, err
	}
	_, found, err := x.b.fetch(ctx, name)
	if err == nil && !found {
		err = x.b.conn.fail("update", name, fmt.Errorf("%w: there is no record %s", pantry.ErrAbsent, scan.Quote(id)))
	}
	if err != nil {
		return now, err
	}
	return r.At(id).Update(ctx, f)
}

// Drop removes the records with these ids in one commit. Absent ids are ignored.
func (r Records[T]) Drop(ctx context.Context, ids ...string) error {
	x := r.bound()
	var edits []entry.Edit
	for _, id := range ids {
		name, err := x.nameOf("delete", id)
		if err != nil {
			return err
		}
		edits = append(edits, entry.Edit{Name: name, Op: value.Op{Verb: value.Drop}})
	}
	if len(edits) == 0 {
		return nil
	}
	for {
		_, err := x.b.write(ctx, "delete", edits)
		var e *Error
		if !errors.Is(err, pantry.ErrAbsent) || !errors.As(err, &e) || e.Index < 0 || e.Index >= len(edits) {
			return err
		}
		if edits = slices.Delete(edits, e.Index, e.Index+1); len(edits) == 0 {
			return nil
		}
	}
}

// Clear removes all records in one commit.
func (r Records[T]) Clear(ctx context.Context) error {
	x := r.bound()
	_, err := x.b.write(ctx, "clear", []entry.Edit{{Reset: true, Prefix: x.name + "/"}})
	return err
}

// Watch yields the ids of all records as soon as they are known, and then, after each change, those
// of the records that were added, changed or removed.
func (r Records[T]) Watch(ctx context.Context) iter.Seq[[]string] {
	x := r.bound()
	return func(yield func([]string) bool) {
		for names := range x.b.watchAll(ctx, nil, []string{x.name + "/"}) {
			var ids []string
			for _, name := range names {
				if id, ok := x.id(name); ok {
					ids = append(ids, id)
				}
			}
			slices.SortFunc(ids, compareIDs)
			if !yield(ids) {
				return
			}
		}
	}
}

// Changes yields every record as soon as all are known, with First set, and then each record that was
// added, changed or removed. A slow body gets several changes of one record as one. It ends as Watch
// does.
func (r Records[T]) Changes(ctx context.Context) iter.Seq2[string, ItemChange[T]] {
	x := r.bound()
	return func(yield func(string, ItemChange[T]) bool) {
		records.Changes(r.Watch(ctx), x.newest, func(id string, c records.Change) bool {
			return yield(id, ItemChange[T]{Old: keydef.Value[T](c.Old), New: keydef.Value[T](c.New), Had: c.Had, Has: c.Has, First: c.First})
		})
	}
}

// newest returns a usable record as far as is known, and the version that changed it.
func (x *recordSet) newest(id string) (rec any, version int64, found bool) {
	name, err := x.nameOf("get", id)
	if e, has := x.b.Known(name); err == nil && has {
		if rec, err = x.k.Record(id).Decode(e.Value); err == nil {
			return rec, e.Version, true
		}
	}
	return nil, 0, false
}

// ids makes ids of records: 48 bits of the time in milliseconds and 80 random bits, as 26 small letters
// and digits whose byte order is that of the times. It is safe for concurrent use.
type ids struct {
	mu   sync.Mutex
	last [16]byte
}

var sortable = base32.NewEncoding("0123456789abcdefghijklmnopqrstuv").WithPadding(base32.NoPadding)

// newID returns an id. Ids of one Board are in the order of the calls.
func (b *Board) newID() string {
	s := &b.ids
	s.mu.Lock()
	defer s.mu.Unlock()
	var now [16]byte
	binary.BigEndian.PutUint64(now[:8], uint64(time.Now().UnixMilli())<<16)
	_, _ = rand.Read(now[6:])
	if bytes.Compare(now[:], s.last[:]) <= 0 { // in the same millisecond, or the clock was set back
		now = s.last
		for i := len(now) - 1; i >= 0; i-- {
			if now[i]++; now[i] != 0 {
				break
			}
		}
	}
	s.last = now
	return sortable.EncodeToString(now[:])
}
