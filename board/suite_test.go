package board_test

import (
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/suite"
	"github.com/small-pantry/pantry/server"
)

// onServer is a board over HTTP, for the suite.
type onServer struct {
	t      *testing.T
	data   string
	s      *server.Server
	st     *httptest.Server
	b      *board.Board
	client *http.Client
}

func (o *onServer) open() error {
	var err error
	if o.s, err = server.New(server.Options{Data: o.data, Dev: true, Log: slog.New(slog.DiscardHandler)}); err != nil {
		return err
	}
	o.st = httptest.NewServer(o.s)
	o.client = &http.Client{Transport: &http.Transport{}}
	o.b, err = board.Join(o.st.URL+"/boards/rowan-street", board.HTTPClient(o.client))
	return err
}

func (o *onServer) close() error {
	o.client.CloseIdleConnections()
	o.st.Close()
	return errors.Join(o.b.Close(), o.s.Close())
}

func (o *onServer) Reopen() error { return errors.Join(o.close(), o.open()) }

func (o *onServer) Entries() ([]entry.Entry, error) {
	all, _, err := o.b.All(o.t.Context(), "")
	out := make([]entry.Entry, len(all))
	for i, e := range all {
		out[i] = entry.Entry(e)
	}
	return out, err
}

func (o *onServer) Commit(edits []entry.Edit) (rules.Outcome, error) {
	ops := make([]board.Op, len(edits))
	for i, e := range edits {
		ops[i] = place.OpOf(e)
	}
	done, err := o.b.Commit(o.t.Context(), ops...)
	return place.OutcomeOf(done), err
}

// A board means the same over HTTP, also when each commit is judged twice.
func TestSuiteOverHTTP(t *testing.T) {
	t.Parallel()
	code := func(err error) (string, int) {
		var e *board.Error
		require.ErrorAs(t, err, &e)
		return e.Code, e.Index
	}
	suite.Run(t, code, func(tb testing.TB) suite.Board {
		o := &onServer{t: t, data: tb.TempDir()}
		hooks.Set(filepath.Join(o.data, "boards"), hooks.Setting{Twice: true})
		require.NoError(t, o.open())
		tb.Cleanup(func() {
			assert.NoError(t, o.close())
			hooks.Unset(filepath.Join(o.data, "boards"))
		})
		return o
	})
}
