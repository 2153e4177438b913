package board

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// An Admin owns every board of a server, by the server's admin token. It is safe for concurrent
// use.
type Admin struct {
	base, token string
	opts        []Option
}

// NewAdmin returns the Admin of a server with the address http(s)://HOST[:PORT][#TOKEN]; in
// development mode there is no token. The error wraps ErrLink for another address.
func NewAdmin(address string, opts ...Option) (*Admin, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%w: %s; a server's address is http://HOST:PORT", ErrLink, scan.Quote(hideToken(address)))
	}
	return &Admin{base: u.Scheme + "://" + u.Host, token: u.Fragment, opts: opts}, nil
}

// Link returns the link with which the admin reaches a board.
func (a *Admin) Link(board string) string {
	link := a.base + "/boards/" + board
	if a.token != "" {
		link += "#" + a.token
	}
	return link
}

// Board returns a board, which the admin owns. The caller must close it.
func (a *Admin) Board(board string) (*Board, error) { return Join(a.Link(board), a.opts...) }

// with sends a call through a Board that is never polled.
func (a *Admin) with(board string, call func(b *Board) error) error {
	b, err := a.Board(board)
	if err != nil {
		return err
	}
	defer b.Close()
	return call(b)
}

// anyBoard is the board's name in a link for calls that are about the server.
const anyBoard = "all"

// A Summary describes a board of a server.
type Summary struct {
	Board   string // its name
	Version int64
	Bytes   int64 // of its file
}

// MarshalJSON returns the summary as the server sends it.
func (s Summary) MarshalJSON() ([]byte, error) { return wire.Summary(s).MarshalJSON() }

// List returns the boards of the server, sorted by name.
func (a *Admin) List(ctx context.Context) (boards []Summary, err error) {
	err = a.with(anyBoard, func(b *Board) error {
		return b.ask(ctx, request{op: "list", method: http.MethodGet, server: true}, func(body []byte) error {
			all, err := wire.ReadSummaries(body)
			for _, s := range all {
				boards = append(boards, Summary(s))
			}
			return err
		})
	})
	if e := (*Error)(nil); errors.As(err, &e) {
		e.Board = ""
	}
	return boards, err
}

// Create creates a board; made is false if it exists already.
func (a *Admin) Create(ctx context.Context, board string) (made bool, err error) {
	err = a.with(board, func(b *Board) error {
		rq := request{op: "create", method: http.MethodPost, server: true, body: wire.AppendBoardName(nil, board), header: asJSON()}
		got, err := b.conn.send(ctx, rq)
		made = got.status == http.StatusCreated
		return b.conn.fail(rq.op, "", err)
	})
	return made, err
}

// Delete removes a board with everything in it, and all links to it. The error wraps
// pantry.ErrAbsent if there is no such board.
func (a *Admin) Delete(ctx context.Context, board string) error {
	return a.with(board, func(b *Board) error { return b.ask(ctx, request{op: "delete", method: http.MethodDelete}, nil) })
}
