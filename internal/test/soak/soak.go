// Package soak sets how long repeating tests run. They run a few rounds by default, and the full
// number of rounds in make soak, which sets SOAK=1.
package soak

import (
	"os"
	"time"
)

// On reports whether the full rounds are to run.
func On() bool { return os.Getenv("SOAK") != "" }

// Rounds returns few, or all if the full rounds are to run.
func Rounds(few, all int) int {
	if On() {
		return all
	}
	return few
}

// For returns short, or long if the full rounds are to run.
func For(short, long time.Duration) time.Duration {
	if On() {
		return long
	}
	return short
}
