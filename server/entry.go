package server

import (
	"bytes"
	"cmp"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
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
func (c *request) cond() (cond entry.Cond, err error) {
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
		p := *wire.ProblemOf(rules.Absent(c.name))
		p.Near = rules.NearTo(l, c.grant.Prefix, c.name)
		return &p
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
	}
	size := rules.SizeOf(e.Value, ledger.MaxValue)
	if err := c.answersLarge(size); err != nil {
		return err
	}
	if bare {
		return c.answerText(http.StatusOK, e.Value)
	}
	if size <= largeCall {
		return c.answer(http.StatusOK, e.AppendJSON(make([]byte, 0, 320)))
	}
	buf := largeAnswers.Get().(*[]byte)
	*buf = e.AppendJSON((*buf)[:0])
	err = c.answer(http.StatusOK, *buf)
	largeAnswers.Put(buf)
	return err
}

// largeAnswers holds buffers of large answers. Without it, 64 callers that read an entry of 1 MiB keep the
// garbage collector busy, and a phone beside them waits: see docs/guarantees.md, GET …/entries/{name}.
var largeAnswers = sync.Pool{New: func() any { return new([]byte) }}

func (c *call) putEntry() error {
	op, err := c.readPut()
	if err != nil {
		return err
	}
	seen, err := c.seen()
	if err != nil {
		return err
	}
	return c.edit(entry.Edit{Op: op, Seen: seen}, func(e []byte, r rules.Result) []byte {
		if r.Replaced != nil {
			e = append(r.Replaced.AppendReplaced(append(e[:len(e)-1], `,"replaced":`...)), '}')
		}
		return e
	})
}

// seen returns the tag in the header Seen: an entity tag, a version, or 0 for absent; nil if there is
// no such header.
func (c *request) seen() (*entry.Tag, error) {
	given := c.header("Seen")
	if given == "" {
		return nil, nil
	}
	t := entry.ParseTag(strings.TrimSuffix(strings.Trim(strings.TrimSpace(given), `"`), "-t"))
	if t.Version == entry.Never {
		return nil, wire.Refuse(wire.Invalid, "the header Seen must be the ETag of the entry, or 0 for absent")
	}
	return &t, nil
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
	raw, err := c.bodyInTurn()
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
	if err := c.answersLarge(max(c.storedSize(), len(raw))); err != nil {
		return err
	}
	return c.edit(entry.Edit{Op: op}, func(e []byte, r rules.Result) []byte {
		e = append(e[:len(e)-1], `,"changed":`...)
		e = strconv.AppendBool(e, r.Changed)
		if !r.Taken.IsZero() {
			e = r.Taken.AppendJSON(append(e, `,"taken":`...))
		}
		return append(e, '}')
	})
}

// storedSize is sizeOf the stored value, as far as this server knows it.
func (c *admitted) storedSize() int {
	l, err := c.ledger(false)
	if err != nil || l == nil {
		return 0
	}
	if n := l.Find(c.name); n != nil {
		return rules.SizeOf(n.Record().Value, ledger.MaxValue)
	}
	return 0
}

// edit makes an edit of the entry and answers in the form that answer returns.
func (c *call) edit(edit entry.Edit, answer func(e []byte, r rules.Result) []byte) (err error) {
	edit.Name = c.name
	if edit.Cond, err = c.cond(); err != nil {
		return err
	}
	out, err := c.edits(created, edit)
	if err != nil {
		return err
	}
	if len(out.Gone) > 0 { // it was done before, and removed since
		return c.answer(out.Status, answer(out.Gone[0].AppendJSON(nil), out.Results[0]))
	}
	e := c.s.trouble.entry(out.Entries[0])
	if wantsText(c.r) {
		c.tag(etag(entry.TagOf(e.Version, e.Updated), "-t"))
		if taken := out.Results[0].Taken; !taken.IsZero() {
			e.Value = taken
		}
		return c.answerText(out.Status, e.Value)
	}
	c.tag(etag(entry.TagOf(e.Version, e.Updated), ""))
	body := answer(e.AppendJSON(make([]byte, 0, 320)), out.Results[0])
	if len(out.Findings) > 0 {
		body = scan.List(&out.Findings, nil, wire.AppendNear).Write(append(body[:len(body)-1], `,"findings":`...))
		body = append(body, '}')
	}
	return c.answer(out.Status, body)
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
	if forget { // it rewrites the board's file
		if err := c.grant.Needs(access.Own); err != nil {
			return err
		}
		if err := c.takeTurn(); err != nil {
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
