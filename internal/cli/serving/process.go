package serving

import (
	"context"
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// processors is how many goroutines Go runs at a time by itself.
var processors = runtime.GOMAXPROCS(0)

// AddProcessor lets Go run one goroutine more at a time than there are processors, unless the environment sets
// GOMAXPROCS. Go looks at the network when a processor has nothing to run, and otherwise every 10 ms. While long
// commits take all processors, a small request would wait for that each time.
func AddProcessor() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(processors + 1)
	}
}

const (
	// headroom is how much memory a server uses for garbage, at most. Go by itself lets garbage grow as large as
	// the data, so that a server with large boards would take twice their memory while they are written.
	headroom = 96 << 20
	// limitEvery is how often the limit follows the data.
	limitEvery = 250 * time.Millisecond
)

// LimitMemory sets Go's soft memory limit to what the data takes and headroom, until ctx ends. It does nothing if
// the environment sets GOMEMLIMIT.
func LimitMemory(ctx context.Context) {
	if os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	defer debug.SetMemoryLimit(math.MaxInt64) // as it was
	every := time.NewTicker(limitEvery)
	defer every.Stop()
	for {
		limit, set := live()+headroom, debug.SetMemoryLimit(-1)
		if limit > set || set-limit > headroom/8 { // a small decrease is not worth a new pace of the collector
			debug.SetMemoryLimit(limit)
		}
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
}

// live returns the bytes that the last garbage collection found in use, and those of stacks and of Go itself.
func live() int64 {
	all := []metrics.Sample{
		{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"},
		{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/free:bytes"}, {Name: "/memory/classes/heap/unused:bytes"},
	}
	metrics.Read(all)
	of := func(i int) int64 { return int64(all[i].Value.Uint64()) }
	return of(0) + of(1) - of(2) - of(3) - of(4) - of(5)
}
