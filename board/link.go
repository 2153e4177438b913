package board

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// A link is the argument of Join: http(s)://host[:port]/boards/BOARD[#token].
type link struct {
	base  string // scheme and host
	board string
	token string
	host  string
}

func parseLink(s string) (link, error) {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return link{}, fmt.Errorf("%w: %s; write it as http://HOST:PORT/boards/BOARD", ErrLink, scan.Quote(hideToken(s)))
	}
	board, ok := strings.CutPrefix(u.Path, "/boards/")
	if !ok || board == "" {
		return link{}, fmt.Errorf("%w: %s names no board; its path is /boards/BOARD", ErrLink, scan.Quote(hideToken(s)))
	}
	if err := journal.CheckName(board); err != nil {
		return link{}, fmt.Errorf("%w: %w", ErrLink, err)
	}
	return link{base: u.Scheme + "://" + u.Host, board: board, token: u.Fragment, host: u.Hostname()}, nil
}

// hideToken removes the token from what is shown.
func hideToken(s string) string {
	head, _, found := strings.Cut(s, "#")
	if found {
		return head + "#…"
	}
	return s
}

// open reports whether others on the network path can read what is sent.
func (l link) open() bool {
	return strings.HasPrefix(l.base, "http:") && !wire.OnThisMachine(l.host)
}

// id returns the ID of the link's token, to which receipts are bound; "" means that it has none.
func (l link) id() string {
	id, _, _ := strings.Cut(l.token, ".")
	return id
}
