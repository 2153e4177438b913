package pantry

import (
	"fmt"
	"log"
	"slices"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/ledger"
)

// A Problem is a fault that the program survived, for example a stored value that its key can't
// read, so that Get returns the default.
type Problem struct {
	Place string // the namespace
	Name  string // the entry, if the problem is about one
	Time  time.Time
	Err   error
}

// String returns the problem in one line.
func (p Problem) String() string {
	if p.Name == "" {
		return fmt.Sprintf("%s: %v", p.Place, p.Err)
	}
	return fmt.Sprintf("%s in %s: %v", p.Name, p.Place, p.Err)
}

// maxProblems is how many problems Problems keeps. The bound prevents a leak when the same fault
// occurs again and again.
const maxProblems = 100

// problems keeps problems and passes them on. It is safe for concurrent use.
type problems struct {
	place string
	tell  func(Problem)

	mu   sync.Mutex // guards the following fields
	seen map[seenProblem]bool
	list []Problem
}

// An unusable value is reported once, however often it is read.
type seenProblem struct {
	name string
	rec  *ledger.Record
}

func newProblems(place string, tell func(Problem)) *problems {
	if tell == nil {
		tell = func(p Problem) {
			log.Print("pantry: ", p)
		}
	}
	return &problems{place: place, tell: tell, seen: map[seenProblem]bool{}}
}

// report keeps a problem and passes it on. rec is the record that it is about, or nil.
func (ps *problems) report(name string, rec *ledger.Record, err error) {
	p := Problem{Place: ps.place, Name: name, Time: time.Now(), Err: err}
	ps.mu.Lock()
	if rec != nil {
		if ps.seen[seenProblem{name, rec}] {
			ps.mu.Unlock()
			return
		}
		if len(ps.seen) >= 10*maxProblems {
			clear(ps.seen)
		}
		ps.seen[seenProblem{name, rec}] = true
	}
	ps.list = append(ps.list, p)
	if len(ps.list) > maxProblems {
		ps.list = slices.Delete(ps.list, 0, 1)
	}
	ps.mu.Unlock()
	ps.tell(p)
}

func (ps *problems) all() []Problem {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	return slices.Clone(ps.list)
}
