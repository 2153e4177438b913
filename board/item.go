package board

import (
	"errors"
	"fmt"
	"strconv"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
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
	// theirs is what was stored instead, if the code is conflict.
	theirs entry.Entry
}

// of reports whether a Board can send the item: it has the link that the item was made with.
func (it *item) of(b *Board) bool { return it.link == "" || it.link == b.conn.link.id() }

func (it *item) fields(ops *[]byte) []scan.Field {
	theirs := scan.Form{Read: func(r *scan.Reader) (err error) {
		it.theirs, err = entry.Read(r)
		return err
	}}
	if it.theirs.Name != "" {
		theirs.Write = it.theirs.AppendJSON
	}
	return []scan.Field{
		scan.Always("op", &it.op), scan.Always("ops", ops), scan.Always("key", &it.key), scan.Maybe("since", &it.since), scan.Maybe("link", &it.link),
		scan.Maybe("sent", &it.sent), scan.Maybe("code", &it.code), scan.Maybe("says", &it.says), scan.Maybe("theirs", theirs),
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

// checks reports whether the item applies operations to one entry whose key has a Check on a Board.
func (it *item) checks(b *Board) bool {
	name := ""
	for _, e := range it.edits {
		if e.Name == "" || e.Op.Verb == value.Put || e.Op.Verb == value.Drop || name != "" && e.Name != name {
			return false
		}
		name = e.Name
	}
	return b.view.checkOf(name) != nil
}

// put returns the put or clear if that is all that the item does; otherwise nil.
func (it *item) put() *entry.Edit {
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
	return b.conn.fail(it.op, namesOf(it.edits), &Error{Index: -1, Code: it.code, Sentence: it.says, Err: err})
}
