package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/engine"
	"github.com/small-pantry/pantry/internal/store"
	"golang.org/x/time/rate"
)

// Options are the settings of a Server.
type Options struct {
	// Data is the directory of the boards. It is created if it is missing.
	Data string
	// Dev is development mode: no tokens, this machine only.
	Dev bool
	// Public is the address that others use, http(s)://HOST[:PORT]. Links begin with it. If it is
	// empty, links begin with the address that their requester uses.
	Public string
	// Limits bound what the server does.
	Limits Limits
	// Pages is a directory with the developer's own pages, which are served from the same origin,
	// beside the server's own paths; empty means none. Such a page can read the links that the
	// board's page keeps on a device.
	Pages string
	// BehindProxy are the addresses of reverse proxies whose X-Forwarded-For names the client. Such
	// headers from any other address change nothing.
	BehindProxy []netip.Prefix
	// Trouble imitates a bad network. It needs Dev.
	Trouble Trouble
	// Log gets a line for each refusal, failure and slow request at level info, and for every
	// request at level debug. nil is slog.Default.
	Log *slog.Logger
}

// A Server stores boards and answers requests for them. It is an http.Handler, and safe for
// concurrent use.
type Server struct {
	dev    bool
	public string
	limits Limits
	log    *slog.Logger
	store  store.Store
	shared store.Shared   // the same store, if other servers write to it too; otherwise nil
	peers  engine.Peers   // nil if there are none
	tokens *access.Tokens // nil in development mode
	admin  admin
	routes routes
	rates  rates
	met    *meter

	resources    *resources
	sending      pacers        // of streams
	arriving     *rate.Limiter // of bytes of large bodies
	refusals     *rate.Limiter // of refusals for lack of room
	sharedEvents sharedEvents
	conns        *connections
	proxies      []netip.Prefix
	notProxied   sync.Once // it was logged that such headers arrive
	clients      *pace
	nameless     *pace // callers without a Client-Instance
	addresses    *pace
	boards       *pace
	writes       debts
	strangers    strangers

	pages   *os.Root // nil if there are none
	trouble Trouble

	stop     sync.Once
	stopping chan struct{} // closed when waiting requests must end
}

var (
	// ErrDevOnly is returned by New for Trouble without Dev.
	ErrDevOnly = errors.New("trouble exists in development mode only")
	// ErrPublic is returned by OwnerLink if Options.Public is empty.
	ErrPublic = errors.New("a link needs the address that others use: set Options.Public")
	// ErrInUse is returned by New for a data directory that another server uses.
	ErrInUse = store.ErrInUse
)

// drain is the time that requests have to finish when the server stops.
const drain = 5 * time.Second

// New opens the data directory and returns a Server for it. The errors are ErrDevOnly, ErrInUse,
// and those of the file system.
func New(o Options) (*Server, error) {
	return newOn(o, func(boards int, problem func(board string, err error)) (store.Store, error) {
		files, err := store.OpenFiles(o.Data, store.FileOptions{Boards: boards, Problem: problem})
		if err != nil {
			return nil, fmt.Errorf("open the data directory: %w", err)
		}
		return files, nil
	})
}

func init() {
	engine.New = func(options any, open engine.Opener) (any, error) {
		o := options.(Options)
		if o.Dev { // it belongs to one machine
			return nil, ErrDevOnly
		}
		return newOn(o, open)
	}
}

func newOn(o Options, open engine.Opener) (*Server, error) {
	if !o.Dev && o.Trouble != (Trouble{}) {
		return nil, ErrDevOnly
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	o.Limits = o.Limits.orDefault()
	boards, err := open(o.Limits.Boards, func(board string, err error) {
		if board == "" {
			o.Log.Warn("store", "problem", err.Error())
			return
		}
		o.Log.Warn("board", "board", board, "problem", err.Error())
	})
	if err != nil {
		return nil, err
	}
	s := &Server{
		dev: o.Dev, public: o.Public, limits: o.Limits, log: o.Log, store: boards, trouble: o.Trouble, stopping: make(chan struct{}),
		resources: newResources(o.Limits, o.Dev), sending: newPacers(halfOfProcessors()), arriving: newArriving(halfOfProcessors()), refusals: rate.NewLimiter(refusalRate, refusalBurst), conns: newConnections(maxFiles()), proxies: o.BehindProxy, writes: debts{perSecond: float64(o.Limits.WriteRate)},
		clients: newPace(o.Limits.ClientRate, 2*o.Limits.ClientRate), nameless: newPace(o.Limits.ClientRate, 10*o.Limits.ClientRate),
		addresses: newPace(o.Limits.AddressRate, 2*o.Limits.AddressRate), boards: newPace(o.Limits.BoardRate, 2*o.Limits.BoardRate),
	}
	s.shared, _ = boards.(store.Shared)
	s.peers, _ = boards.(engine.Peers)
	s.met = newMeter(s)
	if err = s.open(o); err != nil {
		return nil, errors.Join(err, boards.Close())
	}
	s.routes = s.router()
	return s, nil
}

// open opens everything besides the boards.
func (s *Server) open(o Options) (err error) {
	if o.Pages != "" {
		if s.pages, err = openPages(o.Pages, o.Data); err != nil {
			return fmt.Errorf("serve the pages: %w", err)
		}
	}
	if s.dev {
		return nil
	}
	if s.admin, err = readAdmin(o.Data); err != nil {
		return fmt.Errorf("read the admin token: %w", err)
	}
	if s.admin.shared {
		s.log.Warn("others on this machine can read the admin token: chmod 600 is meant", "path", s.admin.path)
	}
	l, err := s.store.Tokens(context.Background())
	if err != nil {
		return err
	}
	if s.shared == nil {
		s.tokens = access.Open(l, nil)
		return nil
	}
	s.tokens = access.Open(l, s.shared.VoidTokens)
	return s.shared.OnVoid(s.tokens.Void)
}

// Check reports whether Serve would accept l. In development mode it returns ErrNotLoopback for a
// listener that others can reach.
func (s *Server) Check(l net.Listener) error {
	if s.dev && !loopback(l.Addr()) {
		return ErrNotLoopback
	}
	return nil
}

// Serve answers requests on l until ctx ends. Then it lets running requests finish, for 5 seconds
// at most. In development mode it returns ErrNotLoopback for a listener that others can reach. It
// closes l.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	if err := s.Check(l); err != nil {
		return errors.Join(err, l.Close())
	}
	hs := &http.Server{
		Handler:           s,
		ReadHeaderTimeout: 5 * time.Second,
		// The deadline of a body is set for calls that have one: see serve.
		WriteTimeout:   75 * time.Second, // for calls that are neither long nor waiting, which set their own
		IdleTimeout:    60 * time.Second,
		MaxHeaderBytes: 16 << 10,
		ConnContext:    s.withPeer,
		ConnState: func(conn net.Conn, state http.ConnState) {
			if state == http.StateClosed || state == http.StateHijacked {
				s.conns.done(conn)
			}
		},
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	done := make(chan error, 1)
	stopped := context.AfterFunc(ctx, func() {
		s.endWaits()
		ctx, cancel := context.WithTimeout(context.Background(), drain)
		defer cancel()
		err := hs.Shutdown(ctx)
		if errors.Is(err, context.DeadlineExceeded) {
			s.log.Warn("requests were under way when the server stopped", "after", drain)
			err = hs.Close()
		}
		done <- err
	})
	err := hs.Serve(l)
	if stopped() {
		return err
	}
	return <-done
}

func (s *Server) endWaits() { s.stop.Do(func() { close(s.stopping) }) }

// Close ends waiting requests and closes the boards. Call it after Serve has returned.
func (s *Server) Close() error {
	s.endWaits()
	if s.tokens != nil {
		s.tokens.Close()
	}
	var err error
	if s.pages != nil {
		err = s.pages.Close()
	}
	return errors.Join(err, s.store.Close())
}
