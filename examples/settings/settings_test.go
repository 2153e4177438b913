package main

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The screen shows what is stored, says what would do, and comes back as it was left.
func TestScreen(t *testing.T) {
	dir := t.TempDir()
	var out strings.Builder
	require.NoError(t, run(dir, strings.NewReader("1 24\n1 007\n2 furlongs\n2 imperial\n3 [\"A1\",\"B2\",\"C4\",\"D5\"]\n4 1h 30 min\n4 soon\n9 x\n"), &out))
	for _, said := range []string{
		"1  reminder-hour  18           0 to 23            when to remind of watering\n",
		"2  units          metric       metric, imperial   how spacings are shown\n",
		`"24" won't do. Enter a whole number from 0 to 23.`, `"furlongs" won't do. Enter one of metric, imperial.`,
		`"soon" won't do. Enter a length of time such as 90s, 5 min or 1h 30m.`, "enter the number of a setting and a value",
	} {
		assert.Contains(t, out.String(), said)
	}
	out.Reset()
	require.NoError(t, run(dir, strings.NewReader(""), &out))
	assert.Equal(t, `1  reminder-hour  7            0 to 23            when to remind of watering
2  units          imperial     metric, imperial   how spacings are shown
3  beds           ["B2","C4","D5"] the newest 3       the beds to look after
4  pause          1h30m                           how long no reminder comes
`, out.String())
}

func TestScreenIsShort(t *testing.T) {
	code, err := os.ReadFile("screen.go")
	require.NoError(t, err)
	assert.LessOrEqual(t, strings.Count(string(code), "\n"), 45)
}
