package board

import (
	"errors"
	"fmt"
	"slices"
	"strconv"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// An item is a change in the queue.
type item struct {
	number int64
	write
	link string // the ID of the token that it was sent with
	sent bool   // it may have arrived
	code string // why it was refused; "" means that it waits
	says string
}

func (it *item) fields(ops *[]byte) []scan.Field {
	return []scan.Field{
		scan.Always("op", &it.op), scan.Always("ops", ops), scan.Always("key", &it.key), scan.Maybe("since", &it.since), scan.Maybe("link", &it.link),
		scan.Maybe("sent", &it.sent), scan.Maybe("code", &it.code), scan.Maybe("says", &it.says),
	}
}

// stored returns the item as an entry's value.
func (it *item) stored() (value.Value, error) {
	body := wire.AppendEdits(nil, it.edits)
	return value.ParseAny(scan.AppendFields(nil, it.fields(&body)...))
}

func readItem(e pantry.Entry) (*item, error) {
	it := &item{}
	var ops []byte
	err := scan.ReadFields(e.Value.AppendJSON(nil), value.MaxDepth, it.fields(&ops)...)
	if err == nil {
		it.edits, err = wire.ReadEdits(ops)
	}
	if err == nil {
		it.number, err = strconv.ParseInt(e.Name[len(queuePrefix):], 10, 64)
	}
	if err == nil && it.key == "" {
		err = errors.New("it has no key")
	}
	if err != nil {
		return nil, fmt.Errorf("the queued change %s can't be read, and is kept: %w", e.Name, err)
	}
	return it, nil
}

func (it *item) name() string { return fmt.Sprintf("%s%09d", queuePrefix, it.number) }
func (it *item) id() string   { return strconv.FormatInt(it.number, 10) }

// about reports whether the item changes a name.
func (it *item) about(name string) bool {
	return slices.ContainsFunc(it.edits, func(e Op) bool { return e.Name == name })
}

// put returns the put or clear if that is all that the item does; otherwise nil.
func (it *item) put() *Op {
	if len(it.edits) == 1 && it.edits[0].Op.Verb == value.Put || len(it.edits) == 1 && it.edits[0].Op.Verb == value.Drop && it.edits[0].Name != "" {
		return &it.edits[0]
	}
	return nil
}

// err returns why the item was refused; nil means that it waits.
func (it *item) err(b *Board) error {
	if it.code == "" {
		return nil
	}
	err := wire.ErrorOf(wire.Code(it.code))
	if err == nil {
		err = errors.New(it.code)
	}
	return b.fail(it.op, namesOf(it.edits), &Error{Index: -1, Code: it.code, Sentence: it.says, Err: err})
}
