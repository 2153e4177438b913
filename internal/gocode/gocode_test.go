package gocode

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNames(t *testing.T) {
	for name, want := range map[string]string{"reminder-hour": "ReminderHour", "tank/litres": "TankLitres", "4x": "Key4x", "a": "A", "möhre": "Möhre", "a__b": "AB"} {
		assert.Equal(t, want, goName(name))
	}
}
