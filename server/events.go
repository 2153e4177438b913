package server

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

const (
	comeBack  = 2 * time.Second // the time after which a client whose stream ended connects again
	beat      = 15              // seconds between comments on a quiet stream, unless the request asks for another interval
	leastBeat = 5
	mostBeat  = 60
	chunk     = 32 << 10         // the maximum length of one write
	chunkTime = 10 * time.Second // the time that a reader has to take it
)

// events sends the current state and then the changes, as server-sent events (WHATWG HTML, 9.2),
// until the client or the server ends the stream, or the board is removed.
func (c *call) events() error {
	f, quiet, err := c.readEvents()
	if err != nil {
		return err
	}
	defer f.close()
	s := &stream{c: c, out: http.NewResponseController(c.w), beat: quiet}
	s.turn.take(c.s.sending)
	defer s.turn.leave()
	page, err := f.read()
	if err != nil {
		return err
	}
	if err := s.out.SetReadDeadline(time.Time{}); err != nil { // a stream outlives the request's deadline
		return err // before the status 200 is sent
	}
	c.w.Header().Set("Content-Type", "text/event-stream")
	c.w.Header().Set("X-Accel-Buffering", "no") // for proxies that would collect events
	c.w.WriteHeader(http.StatusOK)
	c.streams = true
	defer s.interruptible()()
	s.say("retry: " + strconv.FormatInt(comeBack.Milliseconds(), 10) + "\n\n")
	s.run(f, &page)
	return nil
}

// readEvents reads the request of a stream. It returns the selected entries and the interval of comments.
// It is not a part of events because its variables would make the stack of each stream grow from 8 to
// 16 KiB, when the headers are sent ("memory of 1000 streams" would be 1.46, and is 1.28).
func (c *call) readEvents() (*follower, time.Duration, error) {
	u, err := c.query("name*", "prefix*", "since*", "names", "limit", "beat")
	if err != nil {
		return nil, 0, err
	}
	q, err := c.selection(u)
	if err != nil {
		return nil, 0, err
	}
	quiet, err := readBeat(u.Get("beat"))
	if err != nil {
		return nil, 0, err
	}
	if last := c.r.Header.Get("Last-Event-ID"); last != "" { // its position when it was interrupted is newer
		m, err := mark.Parse(last)
		if err != nil {
			return nil, 0, err
		}
		q.Since = []mark.Mark{m}
	}
	f, err := c.follow(q, true)
	return f, quiet, err
}

// A stream is an answer that does not end.
type stream struct {
	c    *call
	out  *http.ResponseController
	beat time.Duration // the interval of comments while nothing changes
	turn turn          // while it sends
	err  error         // its end
}

// run sends the first page, and then changes until the stream ends.
func (s *stream) run(f *follower, page *rules.Page) {
	at, open := s.send(f, *page, true)
	s.turn.leave()
	for open && s.err == nil {
		f.q.Since = []mark.Mark{at}
		if !s.await(f) {
			break
		}
		s.turn.take(s.c.s.sending)
		at, open = s.sendChange(f)
		s.turn.leave()
	}
}

// readBeat reads the parameter beat, a number of seconds.
func readBeat(s string) (time.Duration, error) {
	if s == "" {
		return beat * time.Second, nil
	}
	seconds, err := strconv.Atoi(s)
	if err != nil || seconds < leastBeat || seconds > mostBeat {
		return 0, wire.Refuse(wire.Invalid, "beat is %s, and must be a whole number of seconds from %d to %d", scan.Quote(s), leastBeat, mostBeat)
	}
	return time.Duration(seconds) * time.Second, nil
}

// interruptible ends a write that waits for a slow reader when the call ends, until done is called.
// Then the connection can serve another request.
func (s *stream) interruptible() (done func()) {
	over := make(chan struct{})
	stop := context.AfterFunc(s.c.r.Context(), func() {
		_ = s.out.SetWriteDeadline(time.Now())
		close(over)
	})
	return func() {
		if !stop() {
			<-over // it would spoil the next answer
		}
		_ = s.out.SetWriteDeadline(time.Time{})
	}
}

// write sends data, which the client must take in time.
func (s *stream) write(b []byte) error {
	for len(b) > 0 && s.err == nil {
		n := min(len(b), chunk)
		if s.err = s.out.SetWriteDeadline(time.Now().Add(chunkTime)); s.err == nil {
			s.err = s.c.r.Context().Err() // the deadline would pass after it
		}
		if s.err == nil {
			_, s.err = s.c.w.Write(b[:n])
		}
		b = b[n:]
	}
	return s.err
}

// say writes a text and flushes it.
func (s *stream) say(text string) {
	if s.write([]byte(text)) == nil {
		s.err = s.out.Flush()
	}
}

// sendPages sends a page and those that follow it. All are as of the mark of the first, or newer: a
// client that has read them all is at that mark.
func (s *stream) sendPages(f *follower, page rules.Page) bool {
	q, first, rest := f.q, page, *f
	if first.Whole {
		rest.q.Since = nil
	}
	for {
		if s.c.s.trouble.cuts() {
			return false
		}
		next := page.Next
		event := ""
		if next == "" {
			event = "id: " + first.Mark + "\n"
		}
		page.Mark, page.Version = first.Mark, first.Version
		s.c.s.trouble.page(&page)
		if s.write([]byte(event+"data: ")) == nil && wire.WritePage(&page, q.Bare, chunk, s.write) == nil {
			s.say("\n\n")
		}
		if next == "" || s.err != nil {
			return s.err == nil
		}
		rest.q.After = next
		var err error
		if page, err = rest.read(); err != nil {
			return false
		}
		page.Whole, page.Since = false, first.Since
	}
}

// send sends a page if it has news, or always, and returns its mark. open is false if the stream ends.
func (s *stream) send(f *follower, page rules.Page, always bool) (at mark.Mark, open bool) {
	at, err := mark.Parse(page.Mark)
	if err != nil {
		return at, false
	}
	if always || page.Whole || len(page.Entries)+len(page.Gone)+len(page.Findings) > 0 {
		open = s.sendPages(f, page)
		f.memory.Release()
		return at, open
	}
	return at, true
}

// sendChange sends what has changed. If another stream with the same selection has just sent it, it sends
// the same bytes.
func (s *stream) sendChange(f *follower) (at mark.Mark, open bool) {
	id := eventID{board: s.c.board, selection: f.q.Hash(), within: f.q.Within, since: f.q.Since[0]}
	if f.l != nil && f.current(id.since) == nil {
		id.version = f.l.Version()
		if e := s.c.s.sharedEvents.find(id); e != nil {
			s.say(e.text)
			return e.mark, true
		}
	}
	page, err := f.read()
	if err != nil {
		return at, false // the client connects again and gets the error
	}
	at, err = mark.Parse(page.Mark)
	news := len(page.Entries)+len(page.Gone) > 0
	if err != nil || !news || page.Whole || page.Next != "" || len(page.Findings) > 0 || s.c.s.trouble != (Trouble{}) {
		return s.send(f, page, false)
	}
	text := append(append([]byte("id: "), page.Mark...), "\ndata: "...)
	_ = wire.WritePage(&page, f.q.Bare, rules.MaxPage, func(b []byte) error { // it never fails
		text = append(text, b...)
		return nil
	})
	e := &sharedEvent{eventID: id, mark: at, text: string(append(text, "\n\n"...))}
	f.memory.Release()
	if e.version = page.Version; len(e.text) <= chunk {
		s.c.s.sharedEvents.keep(e)
	}
	s.say(e.text)
	return at, true
}

// await waits for changes. Every beat it sends a comment, or the mark of the board if only other
// names have changed.
func (s *stream) await(f *follower) bool {
	for s.err == nil {
		ctx, cancel := context.WithTimeout(s.c.r.Context(), s.beat)
		news := f.wait(ctx)
		quiet := ctx.Err() != nil && s.c.r.Context().Err() == nil
		cancel()
		switch {
		case news:
			return true
		case !quiet:
			return false
		}
		now, unchanged, err := f.unchanged(f.q.Since[0])
		switch {
		case err != nil:
			return false
		case !unchanged:
			return true
		case now == f.q.Since[0]:
			s.say(":\n\n")
		default:
			s.say("id: " + now.String() + "\n\n")
			f.q.Since[0] = now
		}
	}
	return false
}
