package pantry

import (
	"fmt"
	"log"
	"slices"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/ledger"
)

// A Problem is something wrong that was survived: a stored value that can't be
// read as its key wants, so that the default stands in; a torn end of the file
// that was cut.
type Problem struct {
	Place string // the namespace
	Name  string // of the entry, if it is about one
	Time  time.Time
	Err   error
}

// String tells it in one line.
func (p Problem) String() string {
	if p.Name == "" {
		return fmt.Sprintf("%s: %v", p.Place, p.Err)
	}
	return fmt.Sprintf("%s in %s: %v", p.Name, p.Place, p.Err)
}

// maxProblems is how many problems are kept for Problems: enough to see what
// went wrong, and no leak when something goes wrong again and again.
const maxProblems = 100

// problems collects what was survived and passes it on. It is safe for
// concurrent use.
type problems struct {
	place string
	tell  func(Problem)

	mu   sync.Mutex // guards what follows
	seen map[seenProblem]bool
	list []Problem
}

// A stored value is reported once, however often it is read.
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

// report keeps a problem and tells of it. rec is the record it is about, or nil.
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
