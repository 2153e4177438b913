// Package sheet makes a page to print, with the links of boards as QR codes: cards to cut
// out and hand to a class.
package sheet

import (
	_ "embed"
	"html/template"
	"io"
	"strings"

	"github.com/small-pantry/pantry/internal/qrcode"
)

// A Card is one link.
type Card struct {
	Board string
	Says  string // what whoever has it may do
	Label string // what his changes are by; may be empty
	Link  string // with its secret
}

//go:embed sheet.html
var page string

var parsed = template.Must(template.New("sheet").Parse(page))

type drawn struct {
	Card
	Address string // without the secret
	Path    string
	Side    int // modules; the quiet zone is what is around it
}

// Write writes the page, HTML with everything in it.
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
