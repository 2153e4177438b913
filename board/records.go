package board

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// Records is a collection on a board. Each record is an entry. It is safe for concurrent use. The
// zero Records panics.
type Records[T any] struct{ x *recordsBinding[T] }

type recordsBinding[T any] struct {
	b *Board
	k pantry.RecordsKey[T]
}

// OnRecords binds the collection of a key to a board. The board requests all of it from now on.
func OnRecords[T any](b *Board, k pantry.RecordsKey[T]) Records[T] {
	b.mayHave(k)
	b.mu.Lock()
	if prefix := k.Name() + "/"; b.view.prefixes[prefix] == 0 { // it stays until Close
		b.seed(prefix)
		covered := b.view.covers(prefix)
		if b.view.bindPrefix(prefix); !covered {
			b.askNow()
		}
	}
	b.mu.Unlock()
	b.start()
	return Records[T]{&recordsBinding[T]{b, k}}
}

func (r Records[T]) binding() *recordsBinding[T] {
	if r.x == nil {
		panic("board: a zero Records was used; get one from OnRecords")
	}
	return r.x
}

// name returns the name of a record's entry.
func (x *recordsBinding[T]) name(op, id string) (string, error) {
	name := x.k.Name() + "/" + id
	err := pantry.CheckName(name)
	if err == nil && strings.Contains(id, "/") {
		err = refuse.As(pantry.ErrInvalid, "an id can't contain a \"/\", as %s does", scan.Quote(id))
	}
	return name, x.b.fail(op, x.k.Name(), err)
}

// known returns what is known of the records by id, in order: numbers first, by size, then the
// others by their bytes.
func (x *recordsBinding[T]) known() (records []Entry, all bool) {
	prefix := x.k.Name() + "/"
	x.b.mu.Lock()
	defer x.b.mu.Unlock()
	for name, n := range x.b.nodes {
		if e := n.state.Load().entry; strings.HasPrefix(name, prefix) && !strings.Contains(name[len(prefix):], "/") && !e.Value.IsZero() {
			records = append(records, e)
		}
	}
	slices.SortFunc(records, func(a, b Entry) int { return compareIDs(a.Name[len(prefix):], b.Name[len(prefix):]) })
	return records, x.b.view.mark != mark.Mark{}
}

func compareIDs(a, b string) int {
	n, m := numberOf(a), numberOf(b)
	switch {
	case n >= 0 && m >= 0:
		return cmp.Or(cmp.Compare(n, m), strings.Compare(a, b))
	case n >= 0:
		return -1
	case m >= 0:
		return 1
	}
	return strings.Compare(a, b)
}

// numberOf returns the number that an id is, or -1.
func numberOf(id string) int64 {
	if strings.ContainsFunc(id, func(r rune) bool { return r < '0' || r > '9' }) {
		return -1
	}
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return -1
	}
	return n
}

// All iterates over the known records: ids that are numbers first, by size, then the others by
// their bytes. A record that can't be used is left out and reported as a problem.
func (r Records[T]) All() iter.Seq2[string, T] {
	x := r.binding()
	return func(yield func(string, T) bool) {
		records, _ := x.known()
		for _, e := range records {
			id := e.Name[len(x.k.Name())+1:]
			rec, err := x.k.One(id).Decode(e.Value)
			if err != nil {
				x.b.problem(e.Name, x.b.unusable(e, err))
				continue
			}
			if !yield(id, rec) {
				return
			}
		}
	}
}

// Len returns the number of known records, including those that can't be used.
func (r Records[T]) Len() int {
	records, _ := r.binding().known()
	return len(records)
}

// Get returns a record as far as is known, or the zero T.
func (r Records[T]) Get(id string) (rec T) {
	x := r.binding()
	name, err := x.name("get", id)
	if e, found := x.b.Known(name); err == nil && found {
		rec, _ = x.k.One(id).Decode(e.Value)
	}
	return rec
}

// Lookup requests a record from the server: see Var.Lookup.
func (r Records[T]) Lookup(ctx context.Context, id string) (rec T, found bool, err error) {
	v, err := r.One(id)
	if err != nil {
		return rec, false, err
	}
	return v.Lookup(ctx)
}

// One returns the variable of one record. An invalid id is pantry.ErrInvalid.
func (r Records[T]) One(id string) (Var[T], error) {
	x := r.binding()
	if _, err := x.name("use", id); err != nil {
		return Var[T]{}, err
	}
	k := x.k.One(id)
	x.b.mu.Lock()
	n := x.b.nodeLocked(k.Name())
	x.b.mu.Unlock()
	return newBinding(x.b, k, n).variable(), nil
}

// Add stores a new record under the next number and returns that as its id. The server assigns the
// number, so two phones that add at once get two. A number is not used again. An Add can't be
// queued: without an answer the error is ErrUnreachable, and the record may have been added or not.
// Other errors are those of Commit.
func (r Records[T]) Add(ctx context.Context, rec T) (id string, err error) {
	x := r.binding()
	val, err := x.k.One("1").Encode(rec)
	if err != nil {
		return "", x.b.fail("add", x.k.Name(), err)
	}
	next := value.Op{Verb: value.Add, Operand: value.Int(1), Start: value.Int(0), Min: value.Int(0), Max: value.Int(math.MaxInt64)}
	for try := 0; ; try++ {
		done, err := x.b.writeNow(ctx, "add", []Op{{Name: x.k.Name(), Op: next}})
		if err != nil {
			return "", err
		}
		e, err := x.b.only("add", x.k.Name(), done)
		if err != nil {
			return "", err
		}
		id = e.Value.String()
		put := Op{Name: x.k.Name() + "/" + id, Op: value.Op{Verb: value.Put, Operand: val}}
		_, err = x.b.writeNow(ctx, "add", []Op{put.If(0, time.Time{})})
		if _, again := overtaken(err); !again || try == mostTries { // somebody has written it by its name
			if err != nil {
				id = ""
			}
			return id, err
		}
	}
}

// Put stores a record under an id and replaces an existing one. An invalid id is pantry.ErrInvalid;
// other errors are those of Var.Set.
func (r Records[T]) Put(ctx context.Context, id string, rec T) error {
	x := r.binding()
	name, err := x.name("put", id)
	if err != nil {
		return err
	}
	k := x.k.One(id)
	val, err := k.Encode(rec)
	if err != nil {
		return x.b.fail("put", name, err)
	}
	if e, found := x.b.Known(name); found {
		val = k.Merged(val, e.Value)
	}
	edits := []Op{{Name: name, Op: value.Op{Verb: value.Put, Operand: val, Kind: val.Kind()}}}
	if n := numberOf(id); n > 0 { // Add must not assign it
		edits = append(edits, Op{Name: x.k.Name(), Op: value.Op{Verb: value.Raise, Operand: value.Int(n), Start: value.Int(0)}})
	}
	_, err = x.b.write(ctx, "put", edits)
	return err
}

// Update stores what f makes of a record: see Var.Update. If there is no such record, the error is
// pantry.ErrAbsent.
func (r Records[T]) Update(ctx context.Context, id string, f func(old T) (T, error)) (now T, err error) {
	v, err := r.One(id)
	if err != nil {
		return now, err
	}
	_, found, err := v.x.b.Entry(ctx, v.x.k.Name())
	if err == nil && !found {
		err = v.x.b.fail("update", v.x.k.Name(), fmt.Errorf("%w: there is no record %s", pantry.ErrAbsent, scan.Quote(id)))
	}
	if err != nil {
		return now, err
	}
	return v.Update(ctx, f)
}

// Drop removes the records with these ids in one commit. Absent ids are ignored.
func (r Records[T]) Drop(ctx context.Context, ids ...string) error {
	x := r.binding()
	var edits []Op
	for _, id := range ids {
		name, err := x.name("delete", id)
		if err != nil {
			return err
		}
		edits = append(edits, Op{Name: name, Op: value.Op{Verb: value.Drop}})
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

// Clear removes all records in one commit. Their numbers are not used again.
func (r Records[T]) Clear(ctx context.Context) error {
	x := r.binding()
	_, err := x.b.write(ctx, "clear", []Op{{Reset: true, Prefix: x.k.Name() + "/"}})
	return err
}

// Watch yields the ids of all records as soon as they are known, and then, after each change, those
// of the records that were added, changed or removed.
func (r Records[T]) Watch(ctx context.Context) iter.Seq[[]string] {
	x := r.binding()
	prefix := x.k.Name() + "/"
	return func(yield func([]string) bool) {
		for names := range x.b.watchAll(ctx, nil, []string{prefix}) {
			var ids []string
			for _, name := range names {
				if id := strings.TrimPrefix(name, prefix); !strings.Contains(id, "/") {
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
