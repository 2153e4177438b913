package server

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
)

const (
	comeBack  = 2 * time.Second  // after which a client whose stream ended opens another
	sayAlive  = 15 * time.Second // how often a quiet stream says something
	chunk     = 32 << 10         // how much is written at a time
	chunkTime = 10 * time.Second // and how long a reader may take for it
)

// events answers with what there is and then with what changes, as server-sent events
// (WHATWG HTML, 9.2), until the client or the server ends it, or the board is removed.
func (c *call) events() error {
	u, err := c.query("name*", "prefix*", "since*", "names", "limit")
	if err != nil {
		return err
	}
	q, err := c.selection(u)
	if err != nil {
		return err
	}
	if last := c.r.Header.Get("Last-Event-ID"); last != "" { // where it broke off, it is newer
		m, err := mark.Parse(last)
		if err != nil {
			return err
		}
		q.Since = []mark.Mark{m}
	}
	f, err := c.follow(q, true)
	if err != nil {
		return err
	}
	defer f.close()
	page, err := f.read() // before it is said that all is well
	if err != nil {
		return err
	}
	c.w.Header().Set("Content-Type", "text/event-stream")
	c.w.Header().Set("X-Accel-Buffering", "no") // to a proxy that would keep events until there are more
	c.w.WriteHeader(http.StatusOK)
	c.streams = true
	s := stream{c: c, out: http.NewResponseController(c.w)}
	if err := s.out.SetReadDeadline(time.Time{}); err != nil { // that of the request is over
		return err
	}
	defer s.interruptible()()
	s.say("retry: " + strconv.FormatInt(comeBack.Milliseconds(), 10) + "\n\n")
	for first := true; s.err == nil; first = false {
		if first || page.Whole || len(page.Entries)+len(page.Gone) > 0 {
			told := s.tell(f, page)
			f.memory.Release()
			if !told {
				break
			}
		}
		at, err := mark.Parse(page.Mark)
		if err != nil {
			return nil
		}
		f.q.Since = []mark.Mark{at}
		if !s.await(f) {
			break
		}
		if page, err = f.read(); err != nil {
			break // the client comes again, and hears of it
		}
	}
	return nil
}

// A stream is an answer that goes on.
type stream struct {
	c   *call
	out *http.ResponseController
	err error // its end
}

// interruptible has a write that waits for a slow reader end when the call does, until
// done is called; then the connection may serve another request.
func (s *stream) interruptible() (done func()) {
	over := make(chan struct{})
	stop := context.AfterFunc(s.c.r.Context(), func() {
		_ = s.out.SetWriteDeadline(time.Now())
		close(over)
	})
	return func() {
		if !stop() {
			<-over // which would spoil the next answer
		}
		_ = s.out.SetWriteDeadline(time.Time{})
	}
}

// write sends what the client takes in time.
func (s *stream) write(b []byte) error {
	for len(b) > 0 && s.err == nil {
		n := min(len(b), chunk)
		if s.err = s.out.SetWriteDeadline(time.Now().Add(chunkTime)); s.err == nil {
			s.err = s.c.r.Context().Err() // after which the deadline would be passed
		}
		if s.err == nil {
			_, s.err = s.c.w.Write(b[:n])
		}
		b = b[n:]
	}
	return s.err
}

// say is write of a text, which goes out at once.
func (s *stream) say(text string) {
	if s.write([]byte(text)) == nil {
		s.err = s.out.Flush()
	}
}

// tell sends a page and those that follow it. All are as of the first one's mark, or
// newer: whoever has taken in all stands there.
func (s *stream) tell(f *follower, page rules.Page) bool {
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

// await waits for news, and says now and then that the stream lives.
func (s *stream) await(f *follower) bool {
	for s.err == nil {
		ctx, cancel := context.WithTimeout(s.c.r.Context(), sayAlive)
		news := f.wait(ctx)
		quiet := ctx.Err() != nil && s.c.r.Context().Err() == nil
		cancel()
		switch {
		case news:
			return true
		case !quiet:
			return false
		}
		s.say(":\n\n")
	}
	return false
}
