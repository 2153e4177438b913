package journal

import (
	"fmt"
	"regexp"
	"strings"
)

var (
	fileName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)
	devices  = regexp.MustCompile(`^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)`)
)

// A NameError says why a namespace or board can't have a name.
type NameError struct{ Name, Why string }

func (e *NameError) Error() string {
	return fmt.Sprintf("%q can't name a namespace or a board: %s", e.Name, e.Why)
}

// CheckName says whether a namespace or board can be called name: 1 to 64 of
// a-z 0-9 . _ - with a letter or digit first, and no name that Windows keeps
// for devices. The error is a *NameError.
func CheckName(name string) error {
	switch {
	case name == "":
		return &NameError{name, "it is empty"}
	case len(name) > 64:
		return &NameError{name, "it is over 64 characters long"}
	case fileName.MatchString(strings.ToLower(name)) && !fileName.MatchString(name):
		return &NameError{name, "it has capital letters; write " + strings.ToLower(name)}
	case !fileName.MatchString(name):
		return &NameError{name, "it takes a-z 0-9 . _ - only, with a letter or a digit first"}
	case devices.MatchString(name):
		return &NameError{name, "Windows keeps this name for a device"}
	}
	return nil
}
