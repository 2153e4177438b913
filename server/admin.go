package server

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/google/renameio/v2/maybe"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/journal"
)

// An admin owns every board: anybody who can read a file next to the boards.
type admin struct {
	path   string
	shared bool          // other users of the machine can read the file
	secret access.Secret // the whole token; owners' links are derived from it
	hash   access.Hash
}

// readAdmin reads the admin token of a data directory and creates it if there is none.
func readAdmin(data string) (a admin, err error) {
	a.path = filepath.Join(data, "admin-token")
	raw, err := os.ReadFile(a.path)
	if errors.Is(err, fs.ErrNotExist) {
		raw = []byte(access.AdminName + "." + string(access.NewSecret()) + "\n")
		if err = maybe.WriteFile(a.path, raw, 0o600); err == nil { // owners' links depend on it
			err = journal.SyncDir(journal.OS, data)
		}
	}
	if err == nil {
		a.shared, err = othersRead(a.path)
	}
	if err != nil {
		return a, err
	}
	a.secret = access.Secret(strings.TrimSpace(string(raw)))
	if rest, ok := strings.CutPrefix(string(a.secret), access.AdminName+"."); !ok || len(rest) < 20 || strings.ContainsAny(rest, " \t\n") {
		return a, fmt.Errorf("%s has no admin token; an admin token is one line: %s. and at least 20 characters, best random ones; remove the file, and the server makes a new one", a.path, access.AdminName)
	}
	a.hash = a.secret.Hash()
	return a, nil
}

// othersRead reports whether users other than its owner can read a file, if the system has such
// permissions.
func othersRead(path string) (bool, error) {
	info, err := os.Stat(path)
	return err == nil && runtime.GOOS != "windows" && info.Mode().Perm()&0o044 != 0, err
}

// AdminPath is the file with the token that owns every board. It is empty in development mode.
func (s *Server) AdminPath() string { return s.admin.path }

// OwnerLink returns a link that owns a board. It creates the board if there is none, and made
// reports that. The link is the same each time, until it is revoked or the file holds another admin
// token. In development mode it has no token. The errors are ErrPublic and those of opening a
// board.
func (s *Server) OwnerLink(ctx context.Context, board string) (link string, made bool, err error) {
	if s.public == "" {
		return "", false, ErrPublic
	}
	l, release, made, err := s.ensureBoard(ctx, board)
	if err != nil {
		return "", false, err
	}
	defer release()
	if s.dev {
		return linkTo(s.public, board, ""), made, nil
	}
	secret := func(id string) access.Secret { return s.admin.secret.From(board + "/" + id) }
	owned := access.Board{Name: board, Life: l.Life()}
	g, its, found := s.tokens.Derived(owned, secret, time.Now())
	if !found || g.May < access.Own || g.Prefix != "" {
		g, its, err = s.tokens.Make(owned, access.Grant{May: access.Admin, Label: access.AdminName}, access.Grant{May: access.Own, Label: "owner"}, access.Once{}, secret)
		if err != nil {
			return "", made, err
		}
	}
	return linkTo(s.public, board, g.ID+"."+string(its)), made, nil
}
