package board

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/small-pantry/pantry/value"
)

// A Summary is what a server tells of one of its boards.
type Summary struct {
	Board   string `json:"board"`
	Version int64  `json:"version"`
	Entries int    `json:"entries"`
}

// List asks a server, whose address is http(s)://HOST[:PORT], for its boards.
// The error wraps ErrLink for another address.
func List(ctx context.Context, address string, opts ...Option) ([]Summary, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%w: %s; a server's address is http://HOST:PORT", ErrLink, value.Quote(hideToken(address)))
	}
	// A Board that is never polled sends the request; its name is not in it.
	b, err := Join(u.Scheme+"://"+u.Host+"/b/all#"+u.Fragment, opts...)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	var answer struct{ Boards []Summary }
	got, err := b.send(ctx, request{op: "list", method: http.MethodGet, server: true})
	if err == nil {
		err = decode(got.body, &answer)
	}
	if err != nil {
		err = b.fail("list", "", err)
		if e := (*Error)(nil); errors.As(err, &e) {
			e.Board = ""
		}
		return nil, err
	}
	return answer.Boards, nil
}
