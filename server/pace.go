package server

import (
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"github.com/small-pantry/pantry/internal/wire"
)

// A pace limits the requests a second of each of many sources.
type pace struct {
	limit rate.Limit
	burst int

	mu    sync.Mutex // guards the following fields
	each  map[string]*paced
	swept time.Time // when the idle ones were forgotten
}

type paced struct {
	limiter *rate.Limiter
	used    atomic.Int64 // when, in nanoseconds since 1970
	gone    atomic.Bool  // it was forgotten: a holder must look it up again
}

// maxPaced is the number of sources that a pace knows. A source without requests for a while has
// its whole burst again and is forgotten. If there are more than maxPaced at once, the others share
// one.
const maxPaced = 20_000

func newPace(perSecond, burst int) *pace {
	return &pace{limit: rate.Limit(perSecond), burst: burst, each: map[string]*paced{}}
}

// of returns the limiter of a source.
func (p *pace) of(who string, now time.Time) *paced {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.each[who]
	if one == nil {
		if len(p.each) >= maxPaced && now.Sub(p.swept) > time.Second { // not for each request
			p.swept = now
			for other, it := range p.each {
				if now.UnixNano()-it.used.Load() > int64(2*time.Second) { // the time in which a burst is whole again
					it.gone.Store(true)
					delete(p.each, other)
				}
			}
		}
		if len(p.each) >= maxPaced {
			who = "others"
			one = p.each[who]
		}
		if one == nil {
			one = &paced{limiter: rate.NewLimiter(p.limit, p.burst)}
			p.each[who] = one
		}
	}
	one.used.Store(now.UnixNano())
	return one
}

// mayGo reports whether a request can proceed, or after how long the next can.
func (one *paced) mayGo(now time.Time) (ok bool, after time.Duration) {
	l := one.limiter
	if one.used.Store(now.UnixNano()); l.AllowN(now, 1) {
		return true, 0
	}
	r := l.ReserveN(now, 1)
	defer r.CancelAt(now)
	return false, r.DelayFrom(now)
}

// Paces are the limiters of the calls of a connection: of its address, its client, and its board.
// They are mostly the same for each call.
type paces struct {
	client, board string
	holder        string    // the token's id
	address       string    // with a proxy, several clients share a connection
	of            [3]*paced // by address, client and board; nil if there is none
}

// paces returns the limiters of a call.
func (c *admitted) paces() *paces {
	client, address := c.header("Client-Instance"), c.address()
	if c.peer != nil {
		if last := c.peer.paces.Load(); last != nil && last.client == client && last.holder == c.grant.ID && last.address == address && last.board == c.board && !last.gone() {
			return last
		}
	}
	p := &paces{client: client, board: c.board, holder: c.grant.ID, address: address}
	p.of[0] = c.s.addresses.of(address, c.now)
	if client != "" && len(client) <= maxInstance {
		p.of[1] = c.s.clients.of(client, c.now)
	} else { // several apps share it, so it has a longer average
		p.client, p.of[1] = "", c.s.nameless.of(c.grant.ID+"@"+address, c.now)
	}
	if c.board != "" {
		p.of[2] = c.s.boards.of(c.board, c.now)
	}
	if c.peer != nil {
		c.peer.paces.Store(p)
	}
	return p
}

func (p *paces) gone() bool {
	return slices.ContainsFunc(p.of[:], func(one *paced) bool { return one != nil && one.gone.Load() })
}

// slowDown refuses a request above the rate of its client, its address, or its board.
func (c *admitted) slowDown() error {
	if c.s.dev {
		return nil
	}
	for i, one := range c.paces().of {
		if one == nil {
			continue
		}
		if ok, after := one.mayGo(c.now); !ok {
			says := [...]string{"this address", "this app", "this board"}[i]
			p := wire.Refuse("rate-limited", "more than %.0f requests a second come from or to %s; nothing was done", float64(one.limiter.Limit()), says)
			p.RetryAfter = int(math.Ceil(after.Seconds()))
			return p
		}
	}
	return nil
}

// A debt is the number of bytes that were written to a board above its rate.
type debt struct {
	bytes float64
	since time.Time
}

// debts are those of the boards. A debt that is paid is forgotten.
type debts struct {
	perSecond float64

	mu  sync.Mutex // guards all
	all map[string]debt
}

// owed returns the current debt of a board. mu must be held.
func (d *debts) owed(board string, now time.Time) float64 {
	one, known := d.all[board]
	if !known {
		return 0
	}
	left := one.bytes - now.Sub(one.since).Seconds()*d.perSecond
	if left <= 0 {
		delete(d.all, board)
		return 0
	}
	d.all[board] = debt{left, now}
	return left
}

// mayWrite reports whether a board can be written to, or after how long it can.
func (d *debts) mayWrite(board string, now time.Time) (ok bool, after time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if left := d.owed(board, now); left > d.perSecond { // above a second's worth
		return false, time.Duration((left - d.perSecond) / d.perSecond * float64(time.Second))
	}
	return true, 0
}

// wrote adds the size of a write.
func (d *debts) wrote(board string, bytes int64, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.all == nil {
		d.all = map[string]debt{}
	}
	d.all[board] = debt{d.owed(board, now) + float64(bytes), now}
}
