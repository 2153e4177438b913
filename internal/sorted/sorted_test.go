package sorted_test

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/sorted"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

func TestBy(t *testing.T) {
	t.Parallel()
	type pair struct{ a, b int }
	for n := range 40 {
		s := make([]pair, n)
		for i := range s {
			s[i] = pair{rand.IntN(10), i}
		}
		want := slices.Clone(s)
		order := func(x, y *pair) int { return cmp.Or(cmp.Compare(x.a, y.a), cmp.Compare(x.b, y.b)) }
		slices.SortFunc(want, func(x, y pair) int { return order(&x, &y) })
		sorted.By(s, order)
		assert.Equal(t, want, s)
	}
}

func TestKeys(t *testing.T) {
	t.Parallel()
	m := map[string]int{}
	for n := range 40 {
		m[string(rune('a'+n*7%40))] = n
	}
	keys := sorted.Keys(m)
	assert.Len(t, keys, 40)
	assert.True(t, slices.IsSorted(keys), keys)
}
