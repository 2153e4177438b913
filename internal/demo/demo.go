// Package demo plays the story of the Rowan Street community garden with the real library and a
// real server. Only the garden is made up: each figure it prints was read back from the store and
// is compared with the expected one.
package demo

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"

	"github.com/small-pantry/pantry/server"
)

//go:embed garden.json
var gardenJSON []byte

// A garden is the demo data.
type garden struct {
	Garden string
	Board  string
	Phones []string // the namespaces of the two phones
	Hours  []int    // values stored in a setting, one after the other
	Plot   string
	// the plantings
	Plantings []struct {
		Crop, Bed string
		SpacingCm int `json:"spacing-cm"`
	}
	Tank int // litres at the start
	Cans struct{ Each, Litres int }
}

// A story has what the scenes share.
type story struct {
	*teller
	garden
	ctx  context.Context
	dir  string // of the phones' namespaces
	data string // of the server
	link string // of the board
}

// Run plays the story to w, in a temporary directory that it removes. It returns an error if a
// figure is not as expected. With stay, the server runs until ctx ends, and Run prints commands to
// try.
func Run(ctx context.Context, w io.Writer, stay bool) (err error) {
	s := &story{teller: &teller{w: w}, ctx: ctx}
	if err := json.Unmarshal(gardenJSON, &s.garden); err != nil {
		return fmt.Errorf("the demo data: %w", err)
	}
	root, err := os.MkdirTemp("", "smallpantry-demo-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(root)) }()
	s.dir, s.data = filepath.Join(root, "phones"), filepath.Join(root, "server")
	fmt.Fprintf(w, "%s\n", s.Garden)
	for _, scene := range []func() error{
		s.firstLaunch, s.closeAndOpen, s.lookInTheFile, s.keepRecords, s.chooseFromASet, s.resetAndOpen, s.misspelt,
	} {
		if err := scene(); err != nil {
			return err
		}
	}
	stop, err := s.startServer()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	for _, scene := range []func() error{
		s.unknownName, s.shareTheTank, s.takeWater, s.poll, s.push, s.outage, s.wrongKind, s.agree, s.lookBack, s.undoReset, s.check,
	} {
		if err := scene(); err != nil {
			return err
		}
	}
	if err := s.end(); err != nil {
		return err
	}
	if stay {
		s.lookAround(ctx)
	}
	return nil
}

// startServer starts a server of the shared store on a free port.
func (s *story) startServer() (stop func() error, err error) {
	s.scene("The shared store starts on this machine")
	srv, err := server.New(server.Options{Data: s.data, Dev: true, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, errors.Join(err, srv.Close())
	}
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- srv.Serve(ctx, l) }()
	s.link = fmt.Sprintf("http://%s/boards/%s", l.Addr(), s.Board)
	s.say("link  %s", s.link)
	return func() error {
		cancel()
		return errors.Join(<-served, srv.Close())
	}, nil
}

func (s *story) lookAround(ctx context.Context) {
	fmt.Fprintf(s.w, `
The server runs on. In another terminal:

    smallpantry list %[1]s
    smallpantry add %[1]s tank/litres -10
    smallpantry watch %[1]s
    smallpantry list %[2]s

Ctrl-C ends it and removes everything.
`, s.link, filepath.Join(s.dir, s.Phones[0]))
	<-ctx.Done()
}
