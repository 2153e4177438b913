package server

import (
	"errors"
	"io"
	"math"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/admission"
	"github.com/small-pantry/pantry/internal/wire"
)

// resources holds what one caller could exhaust, with the shares of each caller and board.
type resources struct {
	smallBodies *admission.Pool // bytes of bodies up to smallBody
	largeBodies *admission.Pool // bytes of others
	answers     *admission.Pool // bytes of answers that are being written
	work        *admission.Pool // bytes that commits under way encode
	streams     *admission.Pool // streams and waiting calls
	past        *admission.Gate // reads of earlier states
	large       *admission.Gate // calls that take a processor for a while
}

// bytes are the resources that are counted in bytes, by name.
func (r *resources) bytes() map[string]*admission.Pool {
	return map[string]*admission.Pool{"small-bodies": r.smallBodies, "large-bodies": r.largeBodies, "answers": r.answers, "work": r.work}
}

const (
	mib        = 1 << 20
	smallHolds = 64 << 10 // a link that holds less can use the reserve
	pastWait   = 5 * time.Second
	largeWait  = 5 * time.Second
	largeCall  = 32 << 10 // a call with a longer body takes its turn
	largePage  = 8 << 10  // a call with a longer answer takes its turn
)

// newResources returns the resources of a server. In development mode there are only the bounds of
// the server.
func newResources(limits Limits, dev bool) *resources {
	pool := func(total, small int64, share int64) *admission.Pool {
		b := admission.Bounds{Total: total}
		if !dev {
			b.Link, b.Board, b.Small = total/share, total/share, small
		}
		return admission.NewPool(b)
	}
	past := admission.Bounds{Total: 4, Link: 2, Board: 2}
	if dev {
		past = admission.Bounds{Total: 4}
	}
	large := admission.Bounds{Total: int64(halfOfProcessors())}
	return &resources{
		smallBodies: pool(4*mib, smallHolds, 4), largeBodies: pool(32*mib, smallHolds, 4), answers: pool(32*mib, smallHolds, 4),
		work:    pool(32*mib, smallHolds, 2),
		streams: pool(int64(limits.Streams), 1, 2), past: admission.NewGate(past, 64, pastWait),
		large: admission.NewGate(large, 64, largeWait),
	}
}

const streaming = "streams and waiting calls"

// who returns the shares that the call uses.
func (c *admitted) who() admission.Who {
	if c.link == "" {
		if c.link = c.address(); c.grant.ID != "" {
			c.link = c.board + "/" + c.grant.ID
		}
	}
	return admission.Who{Link: c.link, Board: c.board}
}

// hold takes n of a resource until the call ends.
func (c *admitted) hold(p *admission.Pool, n int64, what string) error {
	h := p.Hold(c.who())
	if err := h.Grow(n); err != nil {
		return overShare(err, what)
	}
	c.free = append(c.free, h.Release)
	return nil
}

// works returns a function that takes room for the work of a commit. It gets the total so far,
// until the call ends.
func (c *admitted) works() func(total int64) error {
	h := c.s.resources.work.Hold(c.who())
	c.free = append(c.free, h.Release)
	return func(total int64) error {
		if total <= h.Size() { // it is evaluated again
			return nil
		}
		return overShare(h.Grow(total-h.Size()), "bytes of commits")
	}
}

// readsPast takes a slot for reading earlier states until the call ends.
func (c *admitted) readsPast() error {
	leave, err := c.s.resources.past.Enter(c.r.Context(), c.who())
	if err != nil {
		return overShare(err, "reads of earlier states")
	}
	c.free = append(c.free, leave)
	return nil
}

// bodyInTurn reads the body. If it is large, it then waits for a turn to execute the call. A large one for
// a board to which too much was written lately is refused, and its body discarded as it arrives.
func (c *admitted) bodyInTurn() ([]byte, error) {
	if c.r.ContentLength > largeCall {
		if err := c.mayWrite(); err != nil {
			_, _ = io.CopyN(io.Discard, &arrival{c: c, in: c.r.Body}, maxBody) // or the client would see a broken connection
			return nil, err
		}
	}
	body, err := c.body()
	if err == nil && len(body) > largeCall {
		err = c.takeTurn()
	}
	return body, err
}

// takeTurn waits for a turn of the calls that take a processor for a while. It lasts until the answer
// begins, because the reader can be slow.
func (c *admitted) takeTurn() error {
	leave, err := c.s.resources.large.Enter(c.r.Context(), c.who())
	if err != nil {
		return overShare(err, "large calls")
	}
	leave = sync.OnceFunc(leave)
	c.rec.before = leave
	c.free = append(c.free, leave)
	return nil
}

// leaveTurn ends the turn before a wait, if the call has one.
func (c *admitted) leaveTurn() {
	if c.rec.before != nil {
		c.rec.before()
		c.rec.before = nil
	}
}

// answersLarge takes room for a large answer of about n bytes until the call ends, and waits for a turn
// to make it. It does nothing for another answer.
func (c *admitted) answersLarge(n int) error {
	if n <= largePage {
		return nil
	}
	if err := c.hold(c.s.resources.answers, int64(n), "bytes of answers"); err != nil || c.rec.before != nil {
		return err // it may have its turn already
	}
	return c.takeTurn()
}

// overShare returns the problem for a request that finds no room. It is certainly not done.
func overShare(err error, what string) error {
	if err == nil {
		return nil
	}
	var full *admission.FullError
	if !errors.As(err, &full) {
		return err
	}
	p := wire.Refuse(wire.Unavailable, "%s has too many %s under way; nothing was done, try again", full.Whose, what)
	if p.Err, p.RetryAfter = err, 1; what == streaming {
		p.RetryAfter = 10 // they last
	}
	return p
}

// refusalRate is how many refusals for lack of room are answered in a second, after a first refusalBurst. Each of the
// others waits, at most for a second. A caller that tries again at once would otherwise cost more than one that finds
// room.
const (
	refusalRate  = 200
	refusalBurst = 100
)

// waitToRefuse waits before err is answered, if it is a refusal for lack of room.
func (c *call) waitToRefuse(err error) {
	if !errors.As(err, new(*admission.FullError)) {
		return
	}
	r := c.s.refusals.Reserve()
	wait := r.Delay()
	if wait > time.Second {
		r.Cancel()
		wait = time.Second
	}
	if wait > 0 {
		select {
		case <-time.After(wait):
		case <-c.r.Context().Done():
		}
	}
}

// stillAllowed returns the error of identify if the call's token has been revoked, or its board
// removed, since the call was authorised.
func (c *granted) stillAllowed() error {
	if c.holder == nil || c.s.tokens.Still(c.holder, time.Now()) {
		return nil
	}
	_, err := c.s.tokens.Find(c.board, c.bearer(), time.Now())
	if err == nil { // another token of that name; it was not the one that was checked
		err = errRevoked
	}
	return err
}

var errRevoked = wire.Refuse("unauthorized", "the link was revoked while the request arrived; nothing was done")

// mayWrite returns an error if too much was written to the board lately.
func (c *admitted) mayWrite() error {
	if c.s.dev {
		return nil
	}
	ok, after := c.s.writes.mayWrite(c.board, time.Now())
	if ok {
		return nil
	}
	p := wire.Refuse("rate-limited", "more than %d bytes a second are written to this board; nothing was done", c.s.limits.WriteRate)
	p.RetryAfter = int(math.Ceil(after.Seconds()))
	return p
}
