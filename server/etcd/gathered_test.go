package etcd

import (
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

type waiting struct {
	key  string
	size int
}

func (w waiting) bytes() int      { return w.size }
func (w waiting) subject() string { return w.key }

// What waits at the same time goes together: at most so many, so many bytes, and one of each key, since etcd
// refuses a transaction that writes a key twice.
func TestGathered(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		var runs [][]string
		g := gathered[waiting]{most: 3}
		g.run = func(some []waiting) {
			var keys []string
			for _, one := range some {
				keys = append(keys, one.key)
			}
			g.mu.Lock()
			runs = append(runs, keys)
			g.mu.Unlock()
			time.Sleep(time.Second)
		}
		add := func(all ...waiting) {
			for _, one := range all {
				g.add(one)
			}
		}
		add(waiting{"x", 1}, waiting{"y", 1}) // both runs are busy
		synctest.Wait()
		add(waiting{"a", 1}, waiting{"a", 1}, waiting{"b", 1}, waiting{"c", 1}, waiting{"d", 1}, waiting{"big", together}, waiting{"e", 1})
		time.Sleep(10 * time.Second)
		synctest.Wait()
		slices.SortFunc(runs, slices.Compare)
		assert.Equal(t, [][]string{{"a", "b", "c"}, {"a", "d"}, {"big"}, {"e"}, {"x"}, {"y"}}, runs)
	})
}
