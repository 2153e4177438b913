package main

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/value"
)

// A negative number is an argument, before and after flags.
func TestReorder(t *testing.T) {
	t.Parallel()
	root := (&app{}).root()
	for words, want := range map[string]string{
		"add P n -10":                   "add -- P n -10",
		"add P n -10 --start -5 --json": "add --start -5 --json -- P n -10",
		"add --json P n -0.5":           "add --json -- P n -0.5",
		"history P -n 5 a":              "history -n 5 -- P a",
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
	t.Parallel()
	for code, errs := range map[int][]error{
		exitFailed:      {errors.New("x"), pantry.ErrTooLarge, pantry.ErrBusy, pantry.ErrDamaged, pantry.ErrNotStored, syscall.EADDRINUSE, exitError{exitFailed, ""}},
		exitUsage:       {usage("x"), board.ErrLink, place.UsageError{Err: errors.New("x")}},
		exitAbsent:      {pantry.ErrAbsent, fs.ErrNotExist, pantry.ErrTooOld, exitError{exitAbsent, "x"}},
		exitRefused:     {pantry.ErrConflict, pantry.ErrWrongKind, pantry.ErrInvalid, value.ErrOutOfRange},
		exitNotAllowed:  {fs.ErrPermission, board.ErrForbidden, syscall.EROFS},
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
