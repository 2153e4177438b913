package etcd

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/rules"
)

// Servers that all write to one board get on, each of them.
func TestContention(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	var all sync.WaitGroup
	var done [3]atomic.Int64
	begun := time.Now()
	for i := range 3 {
		l := hold(t, open(t, prefix, Options{}))
		for range 20 {
			all.Go(func() {
				for time.Since(begun) < 2*time.Second {
					_, err := rules.Commit(l, rules.Call{Edits: add("n", 1)})
					if !assert.NoError(t, err) {
						return
					}
					done[i].Add(1)
				}
			})
		}
	}
	all.Wait()
	t.Log(done[0].Load(), done[1].Load(), done[2].Load(), time.Since(begun))
	for i := range done {
		assert.Positive(t, done[i].Load())
	}
}
