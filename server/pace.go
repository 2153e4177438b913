package server

import (
	"math"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"github.com/small-pantry/pantry/internal/wire"
)

// A pace bounds how many requests a second come from each of many.
type pace struct {
	limit rate.Limit
	burst int

	mu    sync.Mutex // guards what follows
	each  map[string]*paced
	swept time.Time // when those were forgotten of whom nothing came
}

type paced struct {
	limiter *rate.Limiter
	used    time.Time
}

// maxPaced is of how many a pace knows at the same time. One of whom nothing came for a
// while has all of his burst again, and is forgotten; where there are more than so many at
// once, those beyond share one.
const maxPaced = 20_000

func newPace(perSecond int) *pace {
	return &pace{limit: rate.Limit(perSecond), burst: 2 * perSecond, each: map[string]*paced{}}
}

// of gives the limiter of one.
func (p *pace) of(who string, now time.Time) *rate.Limiter {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.each[who]
	if one == nil {
		if len(p.each) >= maxPaced && now.Sub(p.swept) > time.Second { // not for each that comes
			p.swept = now
			for other, it := range p.each {
				if now.Sub(it.used) > 2*time.Second { // in which a burst is whole again
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
	one.used = now
	return one.limiter
}

// mayGo says whether a request of one may go on; else after how long the next may.
func (p *pace) mayGo(who string, now time.Time) (ok bool, after time.Duration) {
	l := p.of(who, now)
	if l.AllowN(now, 1) {
		return true, 0
	}
	r := l.ReserveN(now, 1)
	defer r.CancelAt(now)
	return false, r.DelayFrom(now)
}

// slowDown refuses a request that comes too soon after others: of the same client, of the
// same address, or on the same board.
func (c *call) slowDown(now time.Time) error {
	if c.s.dev {
		return nil
	}
	address := addressOf(c.r)
	client := c.r.Header.Get("Client-Instance")
	if client == "" {
		client = address // which nobody draws at random
	}
	for _, one := range [...]struct {
		pace *pace
		who  string
		says string
	}{{c.s.addresses, address, "this address"}, {c.s.clients, client, "this app"}, {c.s.boards, c.board, "this board"}} {
		if one.who == "" {
			continue
		}
		if ok, after := one.pace.mayGo(one.who, now); !ok {
			p := wire.Refuse("rate-limited", "more than %.0f requests a second come from or to %s; nothing was done", float64(one.pace.limit), one.says)
			p.RetryAfter = int(math.Ceil(after.Seconds()))
			return p
		}
	}
	return nil
}

// A debt is how much more was written to a board than it may be in a while.
type debt struct {
	bytes float64
	since time.Time
}

// debts are those of the boards, of which one that is paid is forgotten.
type debts struct {
	perSecond float64

	mu  sync.Mutex // guards all
	all map[string]debt
}

// owed gives the debt of a board, as it is by now; mu must be held.
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

// mayWrite says whether a board is in no debt; else after how long it is paid.
func (d *debts) mayWrite(board string, now time.Time) (ok bool, after time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if left := d.owed(board, now); left > d.perSecond { // of more than a second
		return false, time.Duration((left - d.perSecond) / d.perSecond * float64(time.Second))
	}
	return true, 0
}

// wrote adds what was written.
func (d *debts) wrote(board string, bytes int64, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.all == nil {
		d.all = map[string]debt{}
	}
	d.all[board] = debt{d.owed(board, now) + float64(bytes), now}
}
