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

// A Summary is what a server tells of one of its boards: its name, Board, its
// Version, and how many Bytes its file has.
type Summary = wire.Summary

// List asks a server, whose address is http(s)://HOST[:PORT], for its boards.
// The error wraps ErrLink for another address.
func List(ctx context.Context, address string, opts ...Option) ([]Summary, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%w: %s; a server's address is http://HOST:PORT", ErrLink, scan.Quote(hideToken(address)))
	}
	// A Board that is never polled sends the request; its name is not in it.
	b, err := Join(u.Scheme+"://"+u.Host+"/boards/all#"+u.Fragment, opts...)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	var boards []Summary
	got, err := b.send(ctx, request{op: "list", method: http.MethodGet, server: true})
	if err == nil {
		if boards, err = wire.ReadSummaries(got.body); err != nil {
			err = unexpected(err)
		}
	}
	if err != nil {
		err = b.fail("list", "", err)
		if e := (*Error)(nil); errors.As(err, &e) {
			e.Board = ""
		}
		return nil, err
	}
	return boards, nil
}
