package gocode

import (
	"testing"

	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
)

func TestNames(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"reminder-hour": "ReminderHour", "tank/litres": "TankLitres", "4x": "Key4x", "a": "A", "möhre": "Möhre", "a__b": "AB"} {
		assert.Equal(t, want, goName(name))
	}
}
