package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"syscall"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/value"
)

// The exit codes. Scripts rely on them.
const (
	exitDone = iota
	exitFailed
	exitUsage
	exitAbsent
	exitRefused
	exitNotAllowed
	exitUnreachable
)

// A usageError reports a wrong call of the command.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// An exitError ends the command with a code. Its message can be empty.
type exitError struct {
	code    int
	message string
}

func (e exitError) Error() string { return e.message }

// A kindError reports that a value does not fit the kind of the stored entry. Naming another
// kind would store it.
type kindError struct{ error }

func (e kindError) Unwrap() error { return e.error }

// exit prints an error and what to do next, and returns the exit code.
func (a *app) exit(err error) int {
	if err == nil && a.damaged {
		return exitFailed // reported when the place was opened
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

// judge returns the exit code for an error, and what to do next.
func (a *app) judge(err error) (code int, next string) {
	var coded exitError
	var kinds kindError
	var be *board.Error
	switch {
	case errors.As(err, &kinds):
		return exitRefused, "Use --kind to change the kind of the entry."
	case errors.As(err, &coded):
		return coded.code, ""
	case !a.running, errors.As(err, new(usageError)), errors.As(err, new(place.UsageError)), errors.Is(err, board.ErrLink), errors.Is(err, serving.ErrUsage):
		return exitUsage, "smallpantry --help lists the commands; smallpantry COMMAND --help describes one."
	case errors.Is(err, pantry.ErrAbsent), errors.Is(err, pantry.ErrTooOld):
		return exitAbsent, ""
	case errors.Is(err, pantry.ErrConflict):
		return exitRefused, "Read the present value, then try again."
	case errors.Is(err, pantry.ErrTooLarge), errors.Is(err, board.ErrQuota), errors.Is(err, board.ErrTooLate):
		return exitFailed, ""
	case errors.Is(err, board.ErrUndeclared):
		return exitRefused, "smallpantry keys lists the declared names; keys --close=false accepts other names."
	case errors.As(err, new(*entry.DeclaredError)):
		return exitRefused, "An app has declared this; --force skips the check."
	case errors.Is(err, pantry.ErrWrongKind), errors.Is(err, pantry.ErrInvalid), errors.Is(err, value.ErrOutOfRange):
		return exitRefused, ""
	case errors.Is(err, board.ErrForbidden):
		return exitNotAllowed, "Ask the board's owner for a link that may do this."
	case errors.As(err, new(*journal.OwnerError)):
		return exitNotAllowed, "Run it as that user."
	case errors.Is(err, fs.ErrPermission):
		return exitNotAllowed, "Run it as the owner of the file; ls -l shows who that is."
	case errors.Is(err, syscall.EROFS):
		return exitNotAllowed, "Copy the file to a place where it can be written."
	case errors.As(err, new(*tls.CertificateVerificationError)):
		return exitUnreachable, "This machine does not trust the server's certificate; for your own certificate authority: SSL_CERT_FILE=ca.pem smallpantry …"
	case errors.Is(err, board.ErrUnreachable):
		if errors.As(err, &be) && be.Code == "unreachable" {
			return exitUnreachable, "Is the address right, and does the server run? smallpantry serve starts one."
		}
		return exitUnreachable, "Try again in a while."
	case errors.Is(err, fs.ErrNotExist):
		return exitAbsent, ""
	case errors.Is(err, syscall.EADDRINUSE):
		return exitFailed, "Another program uses this port: stop it, or choose another port with --listen 127.0.0.1:PORT."
	case errors.As(err, new(*net.OpError)):
		return exitFailed, "Choose another address with --listen."
	case errors.Is(err, pantry.ErrDamaged):
		return exitFailed, "smallpantry repair saves what is intact."
	}
	return exitFailed, ""
}
