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
	rain int    // litres that have fallen into the tank
	all  bool   // every scene is played, with more lines
}

// Options change what Run plays.
type Options struct {
	// All plays every scene. Otherwise there are six.
	All bool
	// Stay leaves the server running until the context ends, and prints commands to try.
	Stay bool
}

// Run plays the story to w, in a temporary directory that it removes. It returns an error if a
// figure is not as expected.
func Run(ctx context.Context, w io.Writer, o Options) (err error) {
	s := &story{teller: &teller{w: w}, ctx: ctx, all: o.All}
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
	stop := func() error { return nil }
	defer func() { err = errors.Join(err, stop()) }()
	serve := func() (err error) {
		stop, err = s.startServer()
		return err
	}
	scenes := []func() error{
		s.closeAndOpen, s.misspelt, s.silently(serve), s.silently(s.unknownName), s.takeWater, s.outage, s.undoReset, s.check,
	}
	if o.All {
		scenes = []func() error{
			s.firstLaunch, s.closeAndOpen, s.lookInTheFile, s.keepRecords, s.chooseFromASet, s.resetAndOpen, s.misspelt,
			serve, s.unknownName, s.shareTheTank, s.takeWater, s.poll, s.push, s.outage, s.wrongKind, s.agree, s.lookBack, s.undoReset, s.check,
		}
	}
	for _, scene := range scenes {
		if err := scene(); err != nil {
			return err
		}
	}
	if err := s.end(); err != nil {
		return err
	}
	if o.Stay {
		s.lookAround(ctx)
		return nil
	}
	next := "\nEach figure was read back from the store. To go on:\n\n"
	if !o.All {
		next += "    smallpantry demo --all            all 19 scenes\n"
	}
	next += `    smallpantry demo --stay           the same, and the board stays open for a browser
    smallpantry new go ../garden-app  an app of your own to start from
    docs/start.md                     five minutes on the device, five minutes shared
`
	fmt.Fprint(w, next)
	return nil
}

// silently plays a scene that prints nothing and is not counted: it prepares the next one.
func (s *story) silently(scene func() error) func() error {
	return func() error {
		w, step := s.w, s.step
		s.w = io.Discard
		err := scene()
		s.w, s.step = w, step
		return err
	}
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
The server stays. Open the board in a browser:

    %[1]s

or, in another terminal:

    smallpantry list %[1]s
    smallpantry add %[1]s tank/litres -10
    smallpantry watch %[1]s
    smallpantry list %[2]s

Ctrl-C ends it and removes everything.
`, s.link, filepath.Join(s.dir, s.Phones[0]))
	<-ctx.Done()
}
