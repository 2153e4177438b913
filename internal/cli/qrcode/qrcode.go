// Package qrcode draws links as QR codes (ISO/IEC 18004), for a terminal and for paper.
package qrcode

import (
	"fmt"
	"io"
	"strings"

	"github.com/mdp/qrterminal/v3"
	"rsc.io/qr"
)

// Print draws a QR code in a terminal, dark on light. Without colour it draws the light modules,
// which is right on a dark background.
func Print(w io.Writer, text string, colour bool) error {
	var drawn strings.Builder
	qrterminal.GenerateWithConfig(text, qrterminal.Config{
		Level: qr.L, Writer: &drawn, HalfBlocks: true, QuietZone: 2,
		BlackChar: qrterminal.BLACK_BLACK, BlackWhiteChar: qrterminal.BLACK_WHITE,
		WhiteChar: qrterminal.WHITE_WHITE, WhiteBlackChar: qrterminal.WHITE_BLACK,
	})
	for line := range strings.Lines(drawn.String()) {
		switch line = strings.TrimRight(line, "\n"); {
		case !colour:
		case strings.Trim(line, "▀") == "": // the last half line
			line = "\x1b[97m" + line + "\x1b[0m"
		default:
			line = "\x1b[97;40m" + line + "\x1b[0m"
		}
		if _, err := fmt.Fprintln(w, line); err != nil {
			return err
		}
	}
	return nil
}

// Path returns the path of an SVG whose unit is one module, and the number of modules per side,
// without the quiet zone of 4.
func Path(text string) (path string, side int, err error) {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return "", 0, err
	}
	var b strings.Builder
	for y := range code.Size {
		for x := 0; x < code.Size; x++ {
			from := x
			for x < code.Size && code.Black(x, y) {
				x++
			}
			if x > from {
				fmt.Fprintf(&b, "M%d %dh%dv1h-%dz", from, y, x-from, x-from)
			}
		}
	}
	return b.String(), code.Size, nil
}
