package near_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/near"
	_ "github.com/small-pantry/pantry/internal/test/hang"
)

func TestMatch(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ a, b, how string }{
		{"tank/litres", "tank/litre", "one letter"},
		{"tank/litres", "tank/litrse", "one letter"},
		{"tank/litres", "tank/litras", "one letter"},
		{"tank/litres", "Tank/Litres", "capital"},
		{"reminder-hour", "reminder_hour", "separators"},
		{"reminder-hour", "reminderhour", "separators"},
		{"tank/litres", "tank/litres", ""},
		{"watered/C4", "watered/B4", ""},
		{"watered/C4", "watered/C5", ""},
		{"frost/low", "frost/row", ""},
		{"beds/1", "beds/11", ""},
		{"plot", "pot", ""},
		{"harvest/min", "harvest/max", ""},
		{"gate/open", "gate/shut", ""},
		{"tank", "tank/litres", ""},
		{"a-b_c.d", "A_b/c-d", "separators"},
		{"hose-queue_end", "hosequeueend", "separators"},
		{"tank/lit.res", "tank/litres/old", ""},
		{"bed", "beds", "one letter"},
		{"bed/C4", "beds/C4", "one letter"},
		{"tank/bed", "tank/bead", ""},
		{"frost/warning", "frots/warning", "one letter"},
		{"gate/open", "gaet/open", ""},
	} {
		for _, got := range []string{near.Match(c.a, c.b), near.Match(c.b, c.a)} {
			if c.how == "" {
				assert.Empty(t, got, "%s, %s", c.a, c.b)
			} else {
				assert.True(t, strings.Contains(got, c.how), "%s, %s: %q", c.a, c.b, got)
			}
		}
	}
}

// The index finds what comparing with each finds.
func TestIndex(t *testing.T) {
	t.Parallel()
	var names []string
	for _, word := range []string{"tank/litres", "tank/litre", "Tank/Litres", "tank_litres", "tänk/litres", "reminder-hour", "reminderhour", "reminder_hour", "gate", "gäte", "beds/1", "beds/11", "水桶/升数量", "水桶/升数", "a"} {
		names = append(names, word, word+"x", "x"+word, strings.ToUpper(word))
	}
	index := near.Index(names)
	found := 0
	for _, name := range names {
		want := map[string]string{}
		for _, other := range names {
			if how := near.Match(name, other); how != "" {
				want[other] = how
			}
		}
		got := map[string]string{}
		for _, m := range index.Near(name) {
			got[m.Name] = m.How
			found++
		}
		assert.Equal(t, want, got, name)
	}
	assert.Greater(t, found, 50)
}
