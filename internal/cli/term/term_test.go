package term_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/cli/term"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

func TestWords(t *testing.T) {
	t.Parallel()
	now := time.Now()
	for d, want := range map[time.Duration]string{-time.Hour: "now", 0: "now", 5 * time.Second: "5 s", 3 * time.Minute: "3 min", 5 * time.Hour: "5 h", 100 * time.Hour: "4 d"} {
		assert.Equal(t, want, term.Age(now.Add(-d)))
	}
	for n, want := range map[int64]string{1: "1 byte", 900: "900 bytes", 1536: "1.5 KiB", 3 << 20: "3.0 MiB"} {
		assert.Equal(t, want, term.Size(n))
	}
	for _, c := range []struct {
		v    value.Value
		want string
	}{
		{value.Text("C4"), "C4"}, {value.Text("5"), `"5"`}, {value.Text("true"), `"true"`}, {value.Text(""), `""`}, {value.Text(" a"), `" a"`},
		{value.Text("a\nb"), `"a\nb"`}, {value.Text("ä\a"), `"ä\u0007"`}, {value.Text("\x1b[31m"), `"\u001b[31m"`}, {value.Float(5), "5.0"}, {value.List(value.Int(1)), "[1]"},
		{value.Value{}, "–"},
	} {
		assert.Equal(t, c.want, term.Shown(c.v))
	}
	assert.Equal(t, "5 (int)", term.Brief(value.Int(5), value.Float(5)))
	assert.Equal(t, strings.Repeat("x", 59)+"…", term.Brief(value.Text(strings.Repeat("x", 61)), value.Value{}))
}

// What somebody stored has no power over the terminal.
func TestTableIsPrintable(t *testing.T) {
	t.Parallel()
	var out strings.Builder
	tb := term.Out{Writer: &out}.Table("name", "", "by")
	tb.Row("a\x1b[2J", "b\u0085", "")
	tb.Print()
	assert.Equal(t, "name\na·[2J  b·\n", out.String())
}

// A name with a hyphen is not broken.
func TestWrap(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "the key\nreminder-hour", term.Wrap("the key reminder-hour", 16))
}
