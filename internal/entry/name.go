package entry

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// MaxName is the length of the longest name of an entry, in bytes.
const MaxName = 256

// CheckName says whether an entry can be called name: 1 to 256 bytes of UTF-8
// without control characters, in parts separated by "/", none of which is
// empty, "." or "..". The error wraps value.ErrInvalid.
func CheckName(name string) error {
	why := fault(name, MaxName)
	if name == "" {
		why = "it is empty"
	} else if why == "" {
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
	return refuse.As(value.ErrInvalid, "%s can't name an entry: %s", scan.Quote(name), why)
}

// MaxAuthor is the length of the longest name of an app, in bytes.
const MaxAuthor = 100

// Check says whether an author can stand beside a commit: each name has at most
// MaxAuthor bytes of UTF-8 without control characters. The error wraps value.ErrInvalid.
func (a Author) Check() error {
	for _, name := range []string{a.By, a.From} {
		if why := fault(name, MaxAuthor); why != "" {
			return refuse.As(value.ErrInvalid, "%s can't name an app: %s", scan.Quote(name), why)
		}
	}
	return nil
}

// fault says what is wrong with a text that must have few bytes of UTF-8
// without control characters; empty: nothing.
func fault(text string, most int) string {
	switch {
	case len(text) > most:
		return fmt.Sprintf("it is %d bytes long, and %d is the most", len(text), most)
	case !utf8.ValidString(text):
		return "it is not UTF-8"
	case strings.ContainsFunc(text, unicode.IsControl):
		return "it holds a control character"
	}
	return ""
}
