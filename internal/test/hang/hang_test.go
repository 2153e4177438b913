package hang

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestProcessorTime(t *testing.T) {
	before := processorTime()
	if before == 0 {
		t.Skip("the processor time is not known on this system")
	}
	x := 1
	for processorTime() < before+30*time.Millisecond {
		for range 1_000_000 {
			x = x*31 + 7
		}
	}
	assert.NotZero(t, x)
}

func TestHangs(t *testing.T) {
	const n = int(limit / interval)
	for name, c := range map[string]struct {
		used func(i int) time.Duration
		want bool
	}{
		"busy":    {func(i int) time.Duration { return time.Duration(i) * time.Second }, false},
		"slow":    {func(i int) time.Duration { return time.Second + time.Duration(i)*progress/time.Duration(n) }, false},
		"stuck":   {func(int) time.Duration { return time.Second }, true},
		"unknown": {func(int) time.Duration { return 0 }, false},
		"killed":  {func(i int) time.Duration { return time.Minute - time.Duration(i)*time.Second }, false},
	} {
		var p processor
		for i := range n {
			_, hangs := p.hangs(c.used(i))
			assert.False(t, hangs, "%s after %d intervals", name, i+1)
		}
		_, hangs := p.hangs(c.used(n))
		assert.Equal(t, c.want, hangs, name)
	}
}
