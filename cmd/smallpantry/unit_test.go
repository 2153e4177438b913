package main

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

// A negative number is an argument, wherever it stands among the flags.
func TestReorder(t *testing.T) {
	root := (&app{}).root()
	for words, want := range map[string]string{
		"add P n -10":                   "add -- P n -10",
		"add P n -10 --start -5 --json": "add --start -5 --json -- P n -10",
		"add --json P n -0.5":           "add --json -- P n -0.5",
		"log P -n 5 a":                  "log -n 5 -- P a",
		"put P n -- -x":                 "put -- P n -x",
		"put P n -":                     "put -- P n -",
		"get P n --or=-1":               "get --or=-1 -- P n",
		"":                              "",
		"frob -1":                       "frob -1",
	} {
		assert.Equal(t, want, strings.Join(reorder(root, strings.Fields(words)), " "), words)
	}
}

func TestExitCodes(t *testing.T) {
	for code, errs := range map[int][]error{
		exitFailed:      {errors.New("x"), pantry.ErrTooLarge, pantry.ErrBusy, pantry.ErrDamaged, pantry.ErrNotStored, syscall.EADDRINUSE, exitError{exitFailed, ""}},
		exitUsage:       {usage("x"), board.ErrLink},
		exitAbsent:      {board.ErrAbsent, fs.ErrNotExist, pantry.ErrTooOld, exitError{exitAbsent, "x"}},
		exitRefused:     {pantry.ErrConflict, pantry.ErrWrongKind, pantry.ErrInvalid, value.ErrOutOfRange},
		exitNotAllowed:  {fs.ErrPermission, board.ErrNotAllowed, syscall.EROFS},
		exitUnreachable: {board.ErrUnreachable},
		exitDone:        {nil},
	} {
		for _, err := range errs {
			var said strings.Builder
			a := &app{stderr: &said, running: true}
			wrapped := err
			if err != nil {
				wrapped = fmt.Errorf("put x: %w", err)
			}
			assert.Equal(t, code, a.exit(wrapped), "%v", err)
			assert.LessOrEqual(t, strings.Count(said.String(), "\n"), 2, "one or two lines: %q", said.String())
		}
	}
	assert.Equal(t, exitUsage, (&app{stderr: &strings.Builder{}}).exit(errors.New("x")), "before it runs, the words are off")
}

func TestWords(t *testing.T) {
	for name, want := range map[string]string{"reminder-hour": "ReminderHour", "tank/litres": "TankLitres", "4x": "Key4x", "a": "A", "möhre": "Möhre", "a__b": "AB"} {
		assert.Equal(t, want, goName(name))
	}
	now := time.Now()
	for d, want := range map[time.Duration]string{-time.Hour: "now", 0: "now", 5 * time.Second: "5 s", 3 * time.Minute: "3 min", 5 * time.Hour: "5 h", 100 * time.Hour: "4 d"} {
		assert.Equal(t, want, age(now.Add(-d)))
	}
	for n, want := range map[int64]string{1: "1 byte", 900: "900 bytes", 1536: "1.5 KiB", 3 << 20: "3.0 MiB"} {
		assert.Equal(t, want, sizeText(n))
	}
	for _, c := range []struct {
		v    value.Value
		want string
	}{
		{value.Text("C4"), "C4"}, {value.Text("5"), `"5"`}, {value.Text("true"), `"true"`}, {value.Text(""), `""`}, {value.Text(" a"), `" a"`},
		{value.Text("a\nb"), `"a\nb"`}, {value.Text("ä\a"), `"ä\u0007"`}, {value.Text("\x1b[31m"), `"\u001b[31m"`}, {value.Float(5), "5.0"}, {value.List(value.Int(1)), "[1]"},
	} {
		assert.Equal(t, c.want, shown(c.v))
	}
	for place, want := range map[string]string{"g/p": "g/p -1", "g/p@12": "g/p 12", "@home": "@home -1", "@home@3": "@home 3", "http://h/b/x@0": "http://h/b/x 0"} {
		bare, version, err := splitVersion(place)
		require.NoError(t, err)
		assert.Equal(t, want, fmt.Sprint(bare, " ", version))
	}
	for _, place := range []string{"g/p@", "g/p@x", "g/p@-1", "g/p@1.5"} {
		_, _, err := splitVersion(place)
		assert.ErrorAs(t, err, new(usageError), place)
	}
}

// What somebody stored has no power over the terminal.
func TestTableIsPrintable(t *testing.T) {
	var out strings.Builder
	a := &app{stdout: &out}
	tb := a.table("name", "", "by")
	tb.row("a\x1b[2J", "b\u0085", "")
	tb.print()
	assert.Equal(t, "name\na·[2J  b·\n", out.String())
}
