// Package webshed is one HTML file, index.html: the display in the shed, with a button to take
// water, as somebody else makes it who has nothing but a link to the board. It is served from
// wherever one likes. To try it:
//
//	go run ./cmd/smallpantry serve --dev --pages examples/webshed
//
// and open http://127.0.0.1:8437/index.html#http://127.0.0.1:8437/boards/rowan-street in a browser.
package webshed
