package board

import (
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/scan"
)

// A reporter passes problems of a board to OnProblem. It is safe for concurrent use.
type reporter struct {
	place     string // the board's name
	onProblem func(pantry.Problem)

	mu       sync.Mutex // guards the following fields
	problems []pantry.Problem
	running  bool // a goroutine passes problems on
	used     map[string]usedKey
	near     map[[2]string]bool // the pairs of names that were reported
}

// problem reports a problem. OnProblem runs in a goroutine of its own, one problem after the other,
// so that it can call the board, Close included, and can wait for the goroutine that closes it.
func (r *reporter) problem(name string, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.problems = append(r.problems, pantry.Problem{Place: r.place, Name: name, Time: time.Now(), Err: err})
	if !r.running {
		r.running = true
		go r.run()
	}
}

func (r *reporter) run() {
	for {
		r.mu.Lock()
		if len(r.problems) == 0 {
			r.running = false
			r.mu.Unlock()
			return
		}
		p := r.problems[0]
		r.problems = r.problems[1:]
		r.mu.Unlock()
		r.onProblem(p)
	}
}

// maxPairs is how many pairs of names one Board reports.
const maxPairs = 1000

// nearNames reports names that nearly match others, each pair once.
func (r *reporter) nearNames(findings []rules.Near) {
	for _, f := range findings {
		pair := [2]string{f.Name, f.Near}
		r.mu.Lock()
		again := r.near[pair] || len(r.near) >= maxPairs
		if r.near == nil {
			r.near = map[[2]string]bool{}
		}
		if !again {
			r.near[pair] = true
		}
		r.mu.Unlock()
		if !again {
			r.problem(f.Name, &NearError{Name: f.Name, Near: f.Near, By: f.By})
		}
	}
}

// firstUse reports, once for each name, mistakes that need no list of keys to be found. The server reports
// a secret that is declared.
func (r *reporter) firstUse(k pantry.AnyKey, d entry.Declared, declared bool) {
	r.mu.Lock()
	before, used := r.used[d.ID()]
	if r.used == nil {
		r.used = map[string]usedKey{}
	}
	again := used && !before.Equal(d) && !before.reported
	if !used || again {
		r.used[d.ID()] = usedKey{d, again}
	}
	r.mu.Unlock()
	switch {
	case again:
		r.problem(d.Name, refuse.As(pantry.ErrInvalid, "two keys have the name %s, and differ: was a line copied? Declare the key once, and use its variable", scan.Quote(d.Name)))
		return
	case used:
		return
	}
	if unkept := keydef.Unkept(k); unkept != "" {
		r.problem(d.Name, refuse.As(pantry.ErrInvalid, "%s", unkept))
	}
	if entry.SecretKey(d) && !declared {
		r.problem(d.Name, refuse.As(pantry.ErrInvalid, "the name %s suggests a secret, and everybody with a link to the board could read it: keep it on the device, sealed", scan.Quote(d.Name)))
	}
}

// A usedKey is the key that was used first under a name.
type usedKey struct {
	entry.Declared
	reported bool // that another one differs
}
