package journal

import (
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/value"
)

// maxName is the length of the longest name of a namespace or board.
const maxName = 64

// legal says whether name consists of what a name may, with a letter or a digit first.
func legal(name string) bool {
	for i, c := range []byte(name) {
		letter := 'a' <= c && c <= 'z' || '0' <= c && c <= '9'
		if !letter && (i == 0 || c != '.' && c != '_' && c != '-') {
			return false
		}
	}
	return true
}

// device says whether Windows keeps a name for a device, whatever follows a dot.
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

// A NameError says why a namespace or board can't have a name.
type NameError struct{ Name, Why string }

func (e *NameError) Error() string {
	return fmt.Sprintf("%q can't name a namespace or a board: %s", e.Name, e.Why)
}

// Unwrap gives value.ErrInvalid.
func (e *NameError) Unwrap() error { return value.ErrInvalid }

// CheckName says whether a namespace or board can be called name: 1 to 64 of
// a-z 0-9 . _ - with a letter or digit first, and no name that Windows keeps
// for devices. The error is a *NameError.
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
