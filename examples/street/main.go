// Command street runs the apps of Rowan Street, in a terminal: tankwatch takes water,
// gatehouse opens the gate and calls beds to the hose, and the display in the shed watches.
//
//	go run ./examples/street                    # a server, and the three side by side
//	go run ./examples/street tankwatch LINK     # one of them, on a board of yours
//
// Tab goes from one phone to the next, and x takes the server away and brings it back: the
// apps say so, go on, and catch up. What is done meanwhile is kept in DIR (-dir), also when
// an app is closed.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/lipgloss"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
)

func main() {
	dir := flag.String("dir", "", "keep what waits for the network in `DIR`; default: a temporary one")
	flag.Parse()
	if err := run(context.Background(), *dir, flag.Args(), os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "street:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, dir string, args []string, in io.Reader, out io.Writer) (err error) {
	if dir == "" {
		if dir, err = os.MkdirTemp("", "street-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	s := &street{}
	switch len(args) {
	case 0:
		if err := s.open(ctx, dir); err != nil {
			return errors.Join(err, s.close())
		}
	case 2:
		if err := s.join(args[0], args[1], dir); err != nil {
			return err
		}
	default:
		return errors.New("say nothing, or an app and the link to a board: street tankwatch LINK")
	}
	ctx, stop := context.WithCancel(ctx)
	p := tea.NewProgram(s, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithAltScreen())
	for _, one := range s.phones {
		go one.follow(ctx, p.Send)
	}
	_, err = p.Run()
	stop()
	return errors.Join(err, s.close())
}

// A street is several phones side by side, and a server where it has one of its own.
type street struct {
	phones []*phone
	here   int // the phone that keys go to
	wide   int
	server *server.Server
	http   *httptest.Server
	away   atomic.Bool // the server is out of reach
}

// open starts a server, and the three apps with a link each that may what it needs.
func (s *street) open(ctx context.Context, dir string) (err error) {
	s.http = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.away.Load() {
			panic(http.ErrAbortHandler)
		}
		s.server.ServeHTTP(w, r)
	}))
	if s.server, err = server.New(server.Options{Data: filepath.Join(dir, "server"), Public: "http://" + s.http.Listener.Addr().String(), Log: slog.New(slog.DiscardHandler)}); err != nil {
		return err
	}
	s.http.Start()
	link, _, err := s.server.OwnerLink(ctx, "rowan-street")
	if err != nil {
		return err
	}
	owner, err := board.Join(link, board.ClientName("street"))
	if err != nil {
		return err
	}
	defer owner.Close()
	if _, err := owner.DeclareKeys(ctx, tankLitres, gateOpen, hoseQueue, hoseBed, notices); err != nil {
		return err
	}
	if err := board.On(owner, tankLitres).Seed(ctx, 3200); err != nil {
		return err
	}
	for _, one := range [][2]string{{"tankwatch", "add"}, {"gatehouse", "write"}, {"shed", "read"}} {
		t, err := owner.Invite(ctx, board.Invitation{May: one[1], Label: one[0]})
		if err == nil {
			err = s.join(one[0], t.Link, filepath.Join(dir, one[0]))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// join opens one app.
func (s *street) join(app, link, dir string) error {
	b, err := board.Join(link, board.Declare(tankLitres, gateOpen, hoseQueue, hoseBed, notices), board.Offline(dir), board.OnProblem(func(pantry.Problem) {})) // the screen says it
	if err != nil {
		return err
	}
	switch app {
	case "tankwatch":
		s.phones = append(s.phones, newTankwatch(b, "C4"))
	case "gatehouse":
		s.phones = append(s.phones, newGatehouse(b))
	case "shed":
		s.phones = append(s.phones, newShed(b))
	default:
		return errors.Join(fmt.Errorf("there is no app %q; there is tankwatch, gatehouse, shed", app), b.Close())
	}
	return nil
}

func (s *street) close() error {
	var errs []error
	for _, p := range s.phones {
		errs = append(errs, p.b.Close())
	}
	if s.http != nil {
		s.http.CloseClientConnections()
		s.http.Close()
	}
	if s.server != nil {
		errs = append(errs, s.server.Close())
	}
	return errors.Join(errs...)
}

// Init begins with nothing.
func (s *street) Init() tea.Cmd { return nil }

// Update takes a key, or what changed.
func (s *street) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		s.wide = m.Width
	case finished:
		m.of.says = m.says
	case tea.KeyMsg:
		if m.Type != tea.KeyRunes {
			return s, s.press(m.String())
		}
		var all []tea.Cmd
		for _, r := range m.Runes { // several, where they came at once
			all = append(all, s.press(string(r)))
		}
		return s, tea.Batch(all...)
	}
	return s, nil
}

// press takes one key.
func (s *street) press(k string) tea.Cmd {
	switch {
	case k == "ctrl+c":
		return tea.Quit
	case k == "tab":
		s.here = (s.here + 1) % len(s.phones)
	case k == "x" && s.http != nil && !s.phones[s.here].typing(""):
		away := !s.away.Load()
		if s.away.Store(away); away {
			s.http.CloseClientConnections()
		}
	default:
		return s.phones[s.here].press(k)
	}
	return nil
}

// View draws the phones.
func (s *street) View() string {
	var drawn []string
	for i, p := range s.phones {
		drawn = append(drawn, p.draw(20, i == s.here && len(s.phones) > 1))
	}
	help := "ctrl+c closes"
	if s.http != nil {
		help = "tab: the next phone · x: the server goes, or comes back · ctrl+c closes"
	}
	return lipgloss.JoinHorizontal(lipgloss.Top, drawn...) + "\n" + faint.Render(help)
}
