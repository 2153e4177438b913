package place_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/cli/place"
)

func TestSplitWhen(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.Local)
	for typed, bare := range map[string]string{"g/p": "g/p", "@home": "@home", "http://h/boards/x": "http://h/boards/x", "/srv/a@b/g/p": "/srv/a@b/g/p"} {
		got, when, err := place.SplitWhen(typed, now)
		require.NoError(t, err)
		assert.Equal(t, bare, got)
		assert.True(t, when.IsNow(), typed)
	}
	for typed, want := range map[string]int64{"g/p@12": 12, "@home@3": 3, "http://h/boards/x@0": 0, "/srv/a@b/g/p@7": 7} {
		_, when, err := place.SplitWhen(typed, now)
		require.NoError(t, err)
		version, ok := when.Version()
		assert.True(t, ok)
		assert.Equal(t, want, version)
	}
	for typed, want := range map[string]time.Time{
		"-10m": now.Add(-10 * time.Minute), "-2h": now.Add(-2 * time.Hour), "-3d": now.Add(-72 * time.Hour), "-1d12h": now.Add(-36 * time.Hour), "-90s": now.Add(-90 * time.Second),
		"2026-05-03T08:30": now.Add(-30 * time.Minute), "2026-05-03T08:30:15": now.Add(-30*time.Minute + 15*time.Second),
		"2026-05-02":                now.Add(-9*time.Hour - time.Nanosecond),
		"2026-05-01T10:00:00.5Z":    time.Date(2026, 5, 1, 10, 0, 0, 5e8, time.UTC),
		"2026-05-01T12:00+02:00":    time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC),
		"2026-05-01T12:00:00+02:00": time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC),
	} {
		bare, when, err := place.SplitWhen("g/p@"+typed, now)
		require.NoError(t, err, typed)
		assert.Equal(t, "g/p", bare)
		_, isVersion := when.Version()
		assert.False(t, isVersion)
		assert.Equal(t, typed, when.String())
		assert.True(t, want.Equal(when.Time()), "%s: %v", typed, when.Time())
	}
	for _, typed := range []string{"g/p@", "g/p@x", "g/p@+1", "g/p@-1", "g/p@1.5", "g/p@-2w", "g/p@--2h", "g/p@-2h-1m", "g/p@-1d-2h", "g/p@2026-13-01", "g/p@2026-05-03T09:01", "g/p@2026-05-04", "g/p@-d"} {
		_, _, err := place.SplitWhen(typed, now)
		assert.ErrorAs(t, err, new(place.UsageError), typed)
	}
}
