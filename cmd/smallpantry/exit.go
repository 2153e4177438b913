package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"syscall"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/serving"
	"github.com/small-pantry/pantry/value"
)

// The exit codes, which are a contract with scripts.
const (
	exitDone = iota
	exitFailed
	exitUsage
	exitAbsent
	exitRefused
	exitNotAllowed
	exitUnreachable
)

// usageError is about how the command was called.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// exitError ends the command with a code; its message may be empty.
type exitError struct {
	code    int
	message string
}

func (e exitError) Error() string { return e.message }

// exit prints what went wrong and what to do next, and gives the exit code.
func (a *app) exit(err error) int {
	if err == nil && a.damaged {
		return exitFailed // it was named when the place was opened
	}
	if err == nil {
		return exitDone
	}
	code, next := a.judge(err)
	if text := err.Error(); text != "" {
		fmt.Fprintf(a.stderr, "smallpantry: %s\n", text)
	}
	if next != "" {
		fmt.Fprintf(a.stderr, "  %s\n", next)
	}
	return code
}

// judge gives the exit code of an error, and what to do next.
func (a *app) judge(err error) (code int, next string) {
	var coded exitError
	var be *board.Error
	text := err.Error()
	switch {
	case errors.As(err, &coded):
		return coded.code, ""
	case !a.running, errors.As(err, new(usageError)), errors.As(err, new(place.UsageError)), errors.Is(err, board.ErrLink), errors.Is(err, serving.ErrUsage):
		return exitUsage, "smallpantry --help lists the commands; smallpantry COMMAND --help tells of one."
	case errors.Is(err, pantry.ErrAbsent), errors.Is(err, pantry.ErrTooOld):
		return exitAbsent, ""
	case errors.Is(err, pantry.ErrConflict):
		return exitRefused, "Look at what is there now, and decide again."
	case errors.Is(err, pantry.ErrTooLarge), errors.Is(err, board.ErrQuota), errors.Is(err, board.ErrTooLate):
		return exitFailed, ""
	case errors.Is(err, board.ErrUndeclared):
		return exitRefused, "smallpantry keys lists the declared names; keys --close=false lets others be written."
	case errors.As(err, new(*entry.DeclaredError)):
		return exitRefused, "An app has declared that; --force goes past it."
	case errors.Is(err, pantry.ErrWrongKind), errors.Is(err, pantry.ErrInvalid), errors.Is(err, value.ErrOutOfRange):
		if strings.Contains(text, "name another kind") {
			return exitRefused, "--kind names one."
		}
		return exitRefused, ""
	case errors.Is(err, board.ErrForbidden):
		return exitNotAllowed, "Ask who gave you the link for one that may do this."
	case errors.Is(err, fs.ErrPermission) && strings.Contains(text, "belongs to user"):
		return exitNotAllowed, "" // it says what next
	case errors.Is(err, fs.ErrPermission):
		return exitNotAllowed, "Run it as the user whose file it is; ls -l tells."
	case errors.Is(err, syscall.EROFS):
		return exitNotAllowed, "Copy the file to where it can be written."
	case errors.As(err, new(*tls.CertificateVerificationError)):
		return exitUnreachable, "This machine does not trust the server's certificate; with an authority of your own: SSL_CERT_FILE=ca.pem smallpantry …"
	case errors.Is(err, board.ErrUnreachable):
		if errors.As(err, &be) && be.Code == "unreachable" {
			return exitUnreachable, "Is the address right, and does the server run? smallpantry serve starts one."
		}
		return exitUnreachable, "Try again in a while."
	case errors.Is(err, fs.ErrNotExist):
		return exitAbsent, ""
	case errors.Is(err, syscall.EADDRINUSE):
		return exitFailed, "Another program listens there: stop it, or choose another port with --listen 127.0.0.1:PORT."
	case errors.As(err, new(*net.OpError)):
		return exitFailed, "Choose another address with --listen."
	case errors.Is(err, pantry.ErrDamaged):
		return exitFailed, "smallpantry repair saves what is intact."
	}
	return exitFailed, ""
}
