package journal

import (
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/value"
)

// maxName is the maximum length of the name of a namespace or board.
const maxName = 64

// legal reports whether name consists of the allowed characters and starts with a letter or a
// digit.
func legal(name string) bool {
	for i, c := range []byte(name) {
		letter := 'a' <= c && c <= 'z' || '0' <= c && c <= '9'
		if !letter && (i == 0 || c != '.' && c != '_' && c != '-') {
			return false
		}
	}
	return true
}

// device reports whether Windows reserves the name for a device. It ignores the part after a dot.
func device(name string) bool {
	name, _, _ = strings.Cut(name, ".")
	switch name {
	case "con", "prn", "aux", "nul":
		return true
	}
	port, isPort := strings.CutPrefix(name, "com")
	if !isPort {
		port, isPort = strings.CutPrefix(name, "lpt")
	}
	return isPort && len(port) == 1 && '0' <= port[0] && port[0] <= '9'
}

// A NameError says why a name is invalid for a namespace or board.
type NameError struct{ Name, Why string }

func (e *NameError) Error() string {
	return fmt.Sprintf("%q can't be the name of a namespace or a board: %s", e.Name, e.Why)
}

// Unwrap returns value.ErrInvalid.
func (e *NameError) Unwrap() error { return value.ErrInvalid }

// CheckName returns a *NameError if name can't be the name of a namespace or board. A name has 1 to
// 64 of the characters a-z 0-9 . _ - and starts with a letter or digit. It is not a device name of
// Windows.
func CheckName(name string) error {
	switch {
	case name == "":
		return &NameError{name, "it is empty"}
	case len(name) > maxName:
		return &NameError{name, "it is over 64 characters long"}
	case legal(strings.ToLower(name)) && !legal(name):
		return &NameError{name, "it has capital letters; write " + strings.ToLower(name)}
	case !legal(name):
		return &NameError{name, "it takes a-z 0-9 . _ - only, with a letter or a digit first"}
	case device(name):
		return &NameError{name, "Windows keeps this name for a device"}
	}
	return nil
}
