package server

import (
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// A place that sends for long rests half of the time, and one that sends a little never. A stream with a
// slow reader does not keep its place.
func TestFanOut(t *testing.T) {
	for _, c := range []struct {
		what        string
		streams     int
		send, pause time.Duration // how long each sends, and what is between them
		want        time.Duration // until the last stream begins
	}{
		{"a few streams", 10, spell / 10, 0, 9 * spell / 10},
		{"many streams", 1001, spell / 10, 0, 100*spell + 100*spell},
		{"changes with pauses", 1001, spell / 10, spell / 10, 100*spell + 100*spell},
		{"slow readers", 5, 100 * longestTurn, 0, 4*longestTurn + 4*longestTurn},
	} {
		t.Run(c.what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				f, begin, last := newFanOut(1), time.Now(), time.Duration(0)
				var all sync.WaitGroup
				for range c.streams {
					var one turn
					one.take(f)
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
				assert.Len(t, f, 1, "the place is free again")
			})
		})
	}
}

// Large bodies that arrive at once leave time between their pieces. One alone waits about as long as reading takes.
func TestArrived(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f, begin := newFanOut(1), time.Now()
		var all sync.WaitGroup
		for range 64 {
			all.Go(func() {
				for range 1 << 20 / bodyPiece {
					f.arrived(bodyPiece)
				}
			})
		}
		all.Wait()
		assert.InDelta(t, 64<<20*perByte, time.Since(begin), float64(2*spell))
		time.Sleep(time.Second)
		begin = time.Now()
		f.arrived(bodyPiece)
		assert.Zero(t, time.Since(begin))
	})
}
