package ledger

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/small-pantry/pantry/value"
)

// MaxName is the length of the longest name of an entry, in bytes.
const MaxName = 256

// CheckName says whether an entry can be called name: 1 to 256 bytes of UTF-8
// without control characters, in parts separated by "/", none of which is
// empty, "." or "..". The error wraps value.ErrInvalid.
func CheckName(name string) error {
	why := ""
	switch {
	case name == "":
		why = "it is empty"
	case len(name) > MaxName:
		why = fmt.Sprintf("it is %d bytes long, and %d is the most", len(name), MaxName)
	case !utf8.ValidString(name):
		why = "it is not UTF-8"
	case strings.ContainsFunc(name, unicode.IsControl):
		why = "it holds a control character"
	default:
		for part := range strings.SplitSeq(name, "/") {
			switch part {
			case "":
				why = `it has an empty part; write the parts as in "tank/litres"`
			case ".", "..":
				why = fmt.Sprintf("it has a part %q, which means another place in a path", part)
			}
		}
	}
	if why == "" {
		return nil
	}
	return fmt.Errorf("%w: %s can't name an entry: %s", value.ErrInvalid, value.Quote(name), why)
}
