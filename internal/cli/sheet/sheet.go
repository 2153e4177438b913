// Package sheet writes a page to print, with the links of boards as QR codes on cards to cut out
// and hand out.
package sheet

import (
	_ "embed"
	"html/template"
	"io"
	"strings"

	"github.com/small-pantry/pantry/internal/cli/qrcode"
)

// A Card is one link.
type Card struct {
	Board string
	Says  string // what its holder can do
	Label string // the label of its changes; can be empty
	Link  string // with its secret
}

//go:embed sheet.html
var page string

var parsed = template.Must(template.New("sheet").Parse(page))

type drawn struct {
	Card
	Address string // without the secret
	Path    string
	Side    int // modules per side; around them is the quiet zone
}

// Write writes the page as self-contained HTML.
func Write(w io.Writer, cards []Card) error {
	all := make([]drawn, len(cards))
	for i, c := range cards {
		path, side, err := qrcode.Path(c.Link)
		if err != nil {
			return err
		}
		address, _, _ := strings.Cut(c.Link, "#")
		all[i] = drawn{Card: c, Address: address, Path: path, Side: side}
	}
	return parsed.Execute(w, all)
}
