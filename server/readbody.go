package server

import (
	"errors"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/small-pantry/pantry/internal/admission"
	"github.com/small-pantry/pantry/internal/wire"
	"golang.org/x/time/rate"
)

const (
	smallBody  = 64 << 10         // bodies up to this size have bounds of their own
	firstPiece = 4 << 10          // reserved before anything has arrived
	bodyPiece  = 32 << 10         // read at a time
	pieceTime  = 10 * time.Second // per piece
	bodyTime   = 60 * time.Second // for the whole body
)

// arrivingRate is how many bytes of large bodies arrive in a second, for each two processors, after a first
// arrivingBurst. Their senders and the network would otherwise take the processors from small requests.
const (
	arrivingRate  = 100e6
	arrivingBurst = 4 * mib
)

// newArriving returns the limiter of large bodies of all callers.
func newArriving(processors int) *rate.Limiter {
	return rate.NewLimiter(rate.Limit(processors*arrivingRate), arrivingBurst)
}

// An arrival reads a body. Once it is large, it waits after each piece that was read, and not while the sender is
// slow.
type arrival struct {
	c  *admitted
	in io.Reader
	n  int // bytes read
}

func (a *arrival) Read(p []byte) (n int, err error) {
	n, err = a.in.Read(p[:min(len(p), bodyPiece)])
	if a.n += n; a.n > bodyPiece {
		if gone := a.c.s.arriving.WaitN(a.c.r.Context(), n); gone != nil {
			return n, gone
		}
	}
	return n, err
}

// readBody reads a body of at most most bytes, piece by piece, each in its time. It counts bytes as they
// arrive, never as declared. It discards what is over the limit, up to drainBody bytes, so that the
// client sees the answer.
func (c *admitted) readBody(most int) ([]byte, error) {
	if n := c.r.ContentLength; n >= 0 && n <= firstPiece {
		data := make([]byte, n)
		if _, err := io.ReadFull(c.r.Body, data); err != nil {
			return nil, notWhole(err)
		}
		return data, c.hold(c.s.resources.smallBodies, n, "bytes of bodies")
	}
	in := body{c: c, small: c.s.resources.smallBodies.Hold(c.who()), large: c.s.resources.largeBodies.Hold(c.who())}
	c.free = append(c.free, in.small.Release, in.large.Release)
	return in.read(most)
}

// A body is a request's body while it arrives.
type body struct {
	c            *admitted
	small, large *admission.Hold // only one of them is used at a time
}

// grow counts n more bytes.
func (b *body) grow(n int64) error {
	had := b.small.Size() + b.large.Size()
	var err error
	switch {
	case had+n <= smallBody:
		err = b.small.Grow(n)
	case had <= smallBody:
		if err = b.large.Grow(had + n); err == nil {
			b.small.Release()
		}
	default:
		err = b.large.Grow(n)
	}
	return overShare(err, "bytes of bodies")
}

func (b *body) read(most int) ([]byte, error) {
	c := b.c
	in := &arrival{c: c, in: http.MaxBytesReader(c.w, c.r.Body, drainBody)}
	out := http.NewResponseController(c.w)
	last := c.now.Add(bodyTime)
	var data []byte
	piece := make([]byte, firstPiece)
	over := false
	for {
		_ = out.SetReadDeadline(earlier(time.Now().Add(pieceTime), last))
		n, err := in.Read(piece)
		if over = over || len(data)+n > most; over {
			data = nil
		} else if full := b.grow(int64(n)); full != nil {
			return nil, full
		} else {
			data = append(data, piece[:n]...)
		}
		if n == len(piece) && n < bodyPiece {
			piece = make([]byte, bodyPiece)
		}
		switch {
		case err == io.EOF && !over:
			_ = out.SetReadDeadline(last) // what follows is not a piece of it
			return data, nil
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

func notWhole(err error) error {
	p := wire.Refuse(wire.Invalid, "the body did not arrive whole")
	p.Err = err
	return p
}
