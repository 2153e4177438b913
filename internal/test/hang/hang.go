// Package hang ends a test binary that hangs. A test package imports it for its side effect:
//
//	import _ "github.com/small-pantry/pantry/internal/test/hang"
//
// A binary hangs if it and its child processes use almost no processor time for a while. A slow
// machine is no hang: there the binary still uses what it gets. A hang prints all goroutines and
// exits with status 2. A test that loops for ever ends at the -timeout of go test.
//
// Patience serves tests that wait for something in particular.
package hang

import (
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"
)

// Patience is how long a test waits for what should happen. It only ends a test that fails: what is
// waited for takes milliseconds, but can take long on a machine that does much else.
const Patience = 40 * time.Second

const (
	interval = 5 * time.Second
	limit    = 50 * time.Second // without progress
	progress = time.Second      // of processor time within limit
)

func init() {
	// Tests start their own binary again as a server or a writer. Those may wait.
	tests := slices.ContainsFunc(os.Args[1:], func(arg string) bool {
		return strings.HasPrefix(arg, "-test.timeout=") && arg != "-test.timeout=0s"
	})
	if !tests {
		return
	}
	var p processor
	var check func()
	check = func() {
		if spent, hangs := p.hangs(processorTime()); hangs {
			end(spent)
		}
		time.AfterFunc(interval, check) // a timer, so that tests see no goroutine of it
	}
	time.AfterFunc(interval, check)
}

// A processor remembers how much processor time was used at the end of each interval.
type processor []time.Duration

// hangs adds the time used by now. It reports how much of it was used within limit, and whether
// that is too little. A used of 0 means that the time is not known.
func (p *processor) hangs(used time.Duration) (spent time.Duration, hangs bool) {
	const n = int(limit / interval)
	*p = append(*p, used)
	if len(*p) <= n {
		return 0, false
	}
	spent = used - (*p)[0]
	*p = (*p)[1:]
	return spent, used > 0 && spent >= 0 && spent < progress // less than before: a child was killed
}

func end(spent time.Duration) {
	stack := make([]byte, 16<<20)
	stack = stack[:runtime.Stack(stack, true)]
	fmt.Fprintf(os.Stderr, "hang: the tests used %v of processor time in %v; all goroutines:\n\n%s\n", spent.Round(time.Millisecond), limit, stack)
	os.Exit(2)
}
