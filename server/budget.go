package server

import (
	"errors"
	"io"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/wire"
)

const (
	smallBody  = 64 << 10 // bodies up to this have a share of their own
	smallShare = 32 << 20 // bytes of these that are on their way at the same time
	largeShare = 64 << 20 // and of others
	oneHolder  = largeShare / 4
	bodyPiece  = 32 << 10
	pieceTime  = 10 * time.Second // in which a piece of a body must come
	bodyTime   = 60 * time.Second // and all of it
)

// A budget bounds how much is in memory of bodies that are on their way, as they arrive:
// small ones get through however many large ones there are, and no token holds all.
type budget struct {
	mu     sync.Mutex // guards what follows
	small  int64
	large  int64
	holder map[string]int64 // of large ones, by token, or address without one
}

// take reserves n more bytes of a body that has had bytes so far; false: there is no room.
func (b *budget) take(holder string, had, n int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if had+n <= smallBody {
		if b.small+n > smallShare {
			return false
		}
		b.small += n
		return true
	}
	if had <= smallBody { // from here on it is a large one
		n += had
	}
	if b.large+n > largeShare || b.holder[holder]+n > oneHolder {
		return false
	}
	if had <= smallBody {
		b.small -= had
	}
	if b.holder == nil {
		b.holder = map[string]int64{}
	}
	b.large += n
	b.holder[holder] += n
	return true
}

// give gives a body's bytes back.
func (b *budget) give(holder string, had int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if had <= smallBody {
		b.small -= had
		return
	}
	b.large -= had
	if b.holder[holder] -= had; b.holder[holder] == 0 {
		delete(b.holder, holder)
	}
}

// holder is whose memory a body is.
func (c *call) heldBy() string {
	if c.grant.ID != "" {
		return c.board + "/" + c.grant.ID
	}
	return c.address()
}

// readBody reads a body of at most most bytes, piece by piece, each in its time. What is
// over that is thrown away, up to drainBody bytes of it, so that the client sees the answer.
func (c *call) readBody(most int) ([]byte, error) {
	holder, held := "", int64(0)
	c.free = append(c.free, func() { c.s.bodies.give(holder, held) })
	n := c.r.ContentLength
	if n < 0 || n > smallBody {
		holder = c.heldBy() // small ones are nobody's
	}
	if n >= 0 && n <= bodyPiece {
		if !c.s.bodies.take(holder, 0, n) {
			return nil, noRoom()
		}
		held = n
		body := make([]byte, n)
		if _, err := io.ReadFull(c.r.Body, body); err != nil {
			return nil, notWhole(err)
		}
		return body, nil
	}
	in := http.MaxBytesReader(c.w, c.r.Body, drainBody)
	out := http.NewResponseController(c.w)
	last := c.now.Add(bodyTime)
	var body []byte
	piece := make([]byte, bodyPiece)
	over := false
	for {
		_ = out.SetReadDeadline(earlier(time.Now().Add(pieceTime), last))
		n, err := in.Read(piece)
		switch {
		case over, len(body)+n > most:
			over, body = true, nil
		case !c.s.bodies.take(holder, held, int64(n)):
			return nil, noRoom()
		default:
			held += int64(n)
			body = append(body, piece[:n]...)
		}
		switch {
		case err == io.EOF && !over:
			_ = out.SetReadDeadline(last) // what follows is not a piece of it
			return body, nil
		case err == io.EOF, errors.As(err, new(*http.MaxBytesError)):
			return nil, wire.Refuse("too-large", "the body is over %d bytes; a value has 1 MiB at most: keep what is larger in a file, and its name here", most)
		case errors.Is(err, os.ErrDeadlineExceeded):
			p := wire.Refuse(wire.Invalid, "the body did not arrive in time: %d bytes in %v at least", bodyPiece, pieceTime)
			p.Err = err
			return nil, p
		case err != nil:
			return nil, notWhole(err)
		}
	}
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

func noRoom() error {
	p := wire.Refuse(wire.Unavailable, "the server has as many bodies on their way as it takes, or you have; nothing was done")
	p.RetryAfter = 1
	return p
}

func notWhole(err error) error {
	p := wire.Refuse(wire.Invalid, "the body did not arrive whole")
	p.Err = err
	return p
}
