// Package admission bounds what each caller can hold of a server's resources: bytes of bodies and
// answers, streams, reads of the past. Each resource has a bound for the server, and within it a
// share for a link and a share for a board. So neither one link nor one board shuts out the others.
package admission

import (
	"fmt"
	"sync"
)

// A Who names the shares that a request uses. A caller without a token uses its address as Link.
type Who struct{ Link, Board string }

// Bounds configure a Pool. 0 means no bound.
type Bounds struct {
	Total int64 // for the server
	Link  int64 // for one link
	Board int64 // for one board
	// Small is how much a link can hold in all and still use the reserve, the last quarter of
	// Total. One board can use a quarter of the reserve.
	Small int64
}

// A Pool is a resource. It is safe for concurrent use.
type Pool struct {
	bounds Bounds

	mu      sync.Mutex // guards the following fields
	used    int64
	links   map[string]int64
	boards  map[string]int64
	reserve map[string]int64 // what boards hold of the reserve
}

// NewPool returns a Pool.
func NewPool(b Bounds) *Pool {
	return &Pool{bounds: b, links: map[string]int64{}, boards: map[string]int64{}, reserve: map[string]int64{}}
}

// A FullError is returned if a request finds no room. Nothing was taken.
type FullError struct{ Whose string }

// The values of FullError.Whose.
const (
	Server = "the server"
	Link   = "this link"
	Board  = "this board"
)

func (e *FullError) Error() string { return fmt.Sprintf("%s uses all of its share", e.Whose) }

// A Hold is what one request holds of a Pool. It is not safe for concurrent use.
type Hold struct {
	pool        *Pool
	who         Who
	n, reserved int64
}

// Hold returns a Hold of nothing.
func (p *Pool) Hold(who Who) *Hold { return &Hold{pool: p, who: who} }

// Size returns how much is held.
func (h *Hold) Size() int64 { return h.n }

// Grow takes n more. The error is a *FullError.
func (h *Hold) Grow(n int64) error {
	p, b := h.pool, h.pool.bounds
	p.mu.Lock()
	defer p.mu.Unlock()
	link, board := p.links[h.who.Link]+n, p.boards[h.who.Board]+n
	reserved := int64(0)
	switch {
	case b.Total > 0 && p.used+n > b.Total:
		return &FullError{Server}
	case b.Link > 0 && link > b.Link:
		return &FullError{Link}
	case b.Board > 0 && h.who.Board != "" && board > b.Board:
		return &FullError{Board}
	}
	if open := b.Total - b.Total/4; b.Small > 0 && p.used+n > open {
		if link > b.Small {
			return &FullError{Server}
		}
		reserved = min(n, p.used+n-open)
		if most := b.Total / 16; p.reserve[h.who.Board]+reserved > max(most, 1) {
			return &FullError{Board}
		}
		p.reserve[h.who.Board] += reserved
	}
	p.used += n
	p.links[h.who.Link], p.boards[h.who.Board] = link, board
	h.n += n
	h.reserved += reserved
	return nil
}

// Release releases everything.
func (h *Hold) Release() {
	if h == nil || h.n == 0 {
		return
	}
	p := h.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	p.used -= h.n
	subtract(p.links, h.who.Link, h.n)
	subtract(p.boards, h.who.Board, h.n)
	if h.reserved > 0 {
		subtract(p.reserve, h.who.Board, h.reserved)
	}
	h.n, h.reserved = 0, 0
}

// subtract removes an amount, and the key once nothing is left.
func subtract(m map[string]int64, key string, n int64) {
	if m[key] -= n; m[key] <= 0 {
		delete(m, key)
	}
}

// Used returns how much is held in all, and by how many links.
func (p *Pool) Used() (n int64, links int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.used, len(p.links)
}
