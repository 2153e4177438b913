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

// MaxName is the maximum length of an entry's name in bytes.
const MaxName = 256

// CheckName returns an error that wraps value.ErrInvalid if name can't be the name of an entry. A
// name is 1 to 256 bytes of UTF-8 without control characters, in parts separated by "/". No part is
// empty, "." or "..".
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
				why = fmt.Sprintf("it has a part %q, which has a meaning in a path", part)
			}
		}
	}
	if why == "" {
		return nil
	}
	return refuse.As(value.ErrInvalid, "%s can't be the name of an entry: %s", scan.Quote(name), why)
}

// MaxAuthor is the maximum length of an author's name in bytes.
const MaxAuthor = 100

// Check returns an error that wraps value.ErrInvalid unless each name of the author has at most
// MaxAuthor bytes of UTF-8 without control characters.
func (a Author) Check() error {
	for _, name := range []string{a.By, a.From} {
		if why := fault(name, MaxAuthor); why != "" {
			return refuse.As(value.ErrInvalid, "%s can't be the name of an app: %s", scan.Quote(name), why)
		}
	}
	return nil
}

// fault says what is wrong with a text that must be short UTF-8 without control characters; empty
// means nothing.
func fault(text string, most int) string {
	switch {
	case len(text) > most:
		return fmt.Sprintf("it is %d bytes long, and the limit is %d", len(text), most)
	case !utf8.ValidString(text):
		return "it is not UTF-8"
	case strings.ContainsFunc(text, unicode.IsControl):
		return "it holds a control character"
	}
	return ""
}
