package server

import (
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// answerPage sends a page in pieces, so that a slow reader's answer is not all in memory. An error
// of the connection is ignored: the client has gone.
func (c *request) answerPage(status int, page rules.Page, bare bool) error {
	c.s.trouble.page(&page)
	c.w.Header()["Content-Type"] = isJSON
	out := http.NewResponseController(c.w)
	started := false
	err := wire.WritePage(&page, bare, chunk, func(b []byte) error {
		if !started {
			started = true
			c.w.WriteHeader(status)
			if len(b) < chunk { // all of it, as the connection takes it
				_, err := c.w.Write(b)
				return err
			}
		}
		return writeSlowly(c.w, out, b)
	})
	if err == nil {
		_, _ = c.w.Write([]byte{'\n'})
	}
	return nil
}

// writeSlowly writes in chunks, and the reader must take each in time.
func writeSlowly(w io.Writer, out *http.ResponseController, b []byte) error {
	for len(b) > 0 {
		n := min(len(b), chunk)
		err := out.SetWriteDeadline(time.Now().Add(chunkTime))
		if err == nil {
			_, err = w.Write(b[:n])
		}
		if err != nil {
			return err
		}
		b = b[n:]
	}
	return nil
}

// answer sends JSON.
func (c *request) answer(status int, body []byte) error {
	c.w.Header()["Content-Type"] = isJSON
	if status != http.StatusOK {
		c.w.WriteHeader(status)
	}
	return c.write(append(body, '\n'))
}

// answerText answers with a bare value.
func (c *request) answerText(status int, v value.Value) error {
	c.w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	c.w.WriteHeader(status)
	return c.write([]byte(v.String()))
}

// write writes a body. The reader of a large one must take each chunk in time. An error of the
// connection is ignored: the client has gone.
func (c *request) write(body []byte) error {
	if len(body) <= largeCall {
		_, _ = c.w.Write(body)
	} else {
		_ = writeSlowly(c.w, http.NewResponseController(c.w), body)
	}
	return nil
}

// refuse answers with the problem of an error.
func (c *request) refuse(err error) {
	p := *wire.ProblemOf(err)
	p.Request = c.known()
	if c.name != "" {
		p.Op = -1 // there is only one
	}
	c.w.Header().Set("Content-Type", "application/problem+json")
	if p.Status == http.StatusUnauthorized { // RFC 6750, 3
		c.w.Header().Set("WWW-Authenticate", c.challenge())
	}
	if p.RetryAfter > 0 {
		c.w.Header().Set("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	c.w.WriteHeader(p.Status)
	_, _ = c.w.Write(append(p.AppendJSON(nil), '\n'))
}

// A recorder remembers the status and size of the answer for the log.
type recorder struct {
	http.ResponseWriter
	status int
	begun  bool // the header was sent, or is about to be
	bytes  int64
	before func() // called before the header is sent
}

func (r *recorder) begin() {
	r.begun = true
	if r.before != nil {
		r.before()
	}
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.begin()
	if status != http.StatusNotModified {
		r.Header()["X-Content-Type-Options"] = nosniff
	}
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	if !r.begun {
		r.begin()
		r.Header()["X-Content-Type-Options"] = nosniff
	}
	n, err := r.ResponseWriter.Write(b)
	r.bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the connection.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }
