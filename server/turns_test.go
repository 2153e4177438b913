package server

import (
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// A pacer rests for half as long as its streams work, and not if they work a little. A stream with a slow
// reader does not keep its turn.
func TestTurns(t *testing.T) {
	for _, c := range []struct {
		what        string
		streams     int
		send, pause time.Duration // how long each sends, and what is between them
		want        time.Duration // until the last stream begins
	}{
		{"a few streams", 10, spell / 10, 0, 9 * spell / 10},
		{"many streams", 1001, spell / 10, 0, 100*spell + 50*spell},
		{"changes with pauses", 1001, spell / 10, spell / 10, 100*spell + 100*spell},
		{"slow readers", 5, 100 * longestTurn, 0, 4*longestTurn + 2*longestTurn},
	} {
		t.Run(c.what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				ps, begin, last := newPacers(1), time.Now(), time.Duration(0)
				var all sync.WaitGroup
				for range c.streams {
					var one turn
					one.take(ps)
					last = time.Since(begin)
					sent := func() {
						time.Sleep(c.send)
						one.leave()
					}
					if c.send <= longestTurn {
						sent()
					} else {
						all.Go(sent)
					}
					time.Sleep(c.pause)
				}
				all.Wait()
				assert.InDelta(t, c.want, last, float64(longestTurn))
				assert.Len(t, ps, 1, "it is free again")
			})
		})
	}
}
