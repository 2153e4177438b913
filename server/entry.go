package server

import (
	"bytes"
	"cmp"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// etag returns the entity tag of an entry. The tag of its bare value ends in -t.
func etag(t entry.Tag, suffix string) string {
	var buf [64]byte
	b := strconv.AppendInt(append(buf[:0], '"'), t.Version, 10)
	if t.At != 0 {
		b = strconv.AppendInt(append(b, '-'), t.At, 10)
	}
	return string(append(append(b, suffix...), '"'))
}

// tagsIn returns the entity tags of a header, in either form, and * as Anything. A bare version is
// allowed. A weak tag matches nothing if strong ones are needed (RFC 9110).
func tagsIn(h http.Header, name string, strong bool) (out []entry.Tag, err error) {
	for _, line := range h[name] {
		for tag := range strings.SplitSeq(line, ",") {
			tag, weak := strings.CutPrefix(strings.TrimSpace(tag), "W/")
			tag = strings.TrimSuffix(strings.Trim(tag, `"`), "-t")
			switch {
			case tag == "":
				return nil, wire.Refuse(wire.Invalid, "the header %s holds an empty tag, which would be no condition", name)
			case tag == "*":
				out = append(out, entry.Tag{Version: entry.Anything})
			case weak && strong:
				out = append(out, entry.Tag{Version: entry.Never})
			default:
				out = append(out, entry.ParseTag(tag))
			}
		}
	}
	return out, nil
}

// cond returns the conditions of a write.
func (c *call) cond() (cond entry.Cond, err error) {
	if cond.Is, err = tagsIn(c.r.Header, "If-Match", true); err == nil {
		cond.Not, err = tagsIn(c.r.Header, "If-None-Match", false)
	}
	for i, t := range cond.Is {
		if t.Version == 0 { // "0" in a header is no version, and nothing absent has a tag
			cond.Is[i].Version = entry.Never
		}
	}
	return cond, err
}

func (c *call) getEntry() error {
	if _, err := c.query(); err != nil {
		return err
	}
	l, err := c.present()
	if err != nil {
		return err
	}
	if l == nil {
		return rules.Absent(c.name)
	}
	n := l.Find(c.name)
	if n == nil || !n.Record().Found() {
		return rules.Absent(c.name)
	}
	rec := n.Record()
	e := c.s.trouble.entry(ledger.Named{Name: c.name, Record: rec}.Entry())
	bare, suffix := wantsText(c.r), ""
	if bare {
		suffix = "-t"
	}
	c.tag(etag(rec.Tag(), suffix))
	has, err := tagsIn(c.r.Header, "If-None-Match", false)
	switch {
	case err != nil:
		return err
	case !(entry.Cond{Not: has}).Holds(true, rec.Tag()):
		c.w.WriteHeader(http.StatusNotModified)
		return nil
	case bare:
		c.w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = c.w.Write([]byte(e.Value.String()))
		return nil
	}
	return c.answer(http.StatusOK, e.AppendJSON(make([]byte, 0, 320)))
}

func (c *call) putEntry() error {
	op, err := c.readPut()
	if err != nil {
		return err
	}
	return c.edit(op, func(e []byte, _ rules.Result) []byte { return e })
}

// created returns the status of a call that stores an entry.
func created(created bool) int {
	if created {
		return http.StatusCreated
	}
	return http.StatusOK
}

func (c *call) postEntry() error {
	if _, err := c.query(); err != nil {
		return err
	}
	raw, err := c.body()
	if err != nil {
		return err
	}
	op, err := value.ParseOp(bytes.TrimSpace(raw))
	if err != nil {
		return err
	}
	switch op.Verb {
	case value.Put, value.Drop:
		return wire.Refuse(wire.Invalid, "%s is no operation of a POST: use PUT to store a value, and DELETE to remove it", op.Verb)
	}
	return c.edit(op, func(e []byte, r rules.Result) []byte {
		e = append(e[:len(e)-1], `,"changed":`...)
		e = strconv.AppendBool(e, r.Changed)
		if !r.Taken.IsZero() {
			e = r.Taken.AppendJSON(append(e, `,"taken":`...))
		}
		return append(e, '}')
	})
}

// edit applies an operation to the entry and answers in the form that answer returns.
func (c *call) edit(op value.Op, answer func(e []byte, r rules.Result) []byte) error {
	cond, err := c.cond()
	if err != nil {
		return err
	}
	out, err := c.edits(created, entry.Edit{Name: c.name, Op: op, Cond: cond})
	if err != nil {
		return err
	}
	if len(out.Gone) > 0 { // it was done before, and removed since
		return c.answer(out.Status, answer(out.Gone[0].AppendJSON(nil), out.Results[0]))
	}
	e := c.s.trouble.entry(out.Entries[0])
	c.tag(etag(entry.TagOf(e.Version, e.Updated), ""))
	return c.answer(out.Status, answer(e.AppendJSON(make([]byte, 0, 320)), out.Results[0]))
}

// deleteEntry removes an entry. With ?forget=true it also erases it from the history.
func (c *call) deleteEntry() error {
	q, err := c.query("forget")
	if err != nil {
		return err
	}
	forget, err := isTrue(q, "forget")
	if err != nil {
		return err
	}
	if forget {
		if err := c.grant.Needs(access.Own); err != nil {
			return err
		}
	}
	cond, err := c.cond()
	if err != nil {
		return err
	}
	noContent := func(bool) int { return http.StatusNoContent }
	c.erases = forget
	out, err := c.edits(noContent, entry.Edit{Name: c.name, Op: value.Op{Verb: value.Drop}, Cond: cond})
	if forget && cond.IsZero() && errors.Is(err, value.ErrAbsent) {
		out.Duty, err = c.eraseOld(err)
	}
	if err == nil && out.Duty != nil {
		err = refuse.As(ledger.ErrUncertain, "the entry is removed, but its old values are still in the board's file, which could not be rewritten; the server tries again")
	}
	if err == nil {
		c.w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// eraseOld erases a name that holds nothing and is only in the history. Without such a history it
// returns absent.
func (c *call) eraseOld(absent error) (duty, err error) {
	l, err := c.ledger(false)
	if err != nil || l == nil {
		return nil, cmp.Or(err, absent)
	}
	if err := c.readsPast(); err != nil {
		return nil, err
	}
	past, _, err := l.HistoryOf(ledger.HistoryQuery{Limit: 1, Points: true, Has: func(name string) bool { return name == c.name }})
	if err == nil && len(past) == 0 {
		err = absent
	}
	if err != nil {
		return nil, err
	}
	who, err := c.author()
	if err != nil {
		return nil, err
	}
	result, err := l.Commit(who, func(tx *ledger.Tx) error {
		tx.Owe(c.name)
		return c.stillAllowed()
	})
	return result.Duty, err
}
