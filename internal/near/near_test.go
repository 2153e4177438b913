package near_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/near"
)

func TestMatch(t *testing.T) {
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
