// Package serving runs a server for a command: its flags, listening, TLS, what it prints at the
// start, and shutting down.
package serving

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"

	"github.com/spf13/pflag"

	"github.com/small-pantry/pantry/internal/cli/qrcode"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/server"
)

// Flags configure the server.
type Flags struct {
	Listen  string
	Public  string
	Cert    string
	Key     string
	Board   string
	Verbose bool
	Proxies []netip.Prefix // set by Check
	limits  []string
	proxies []string
}

// Add adds the flags to a flag set.
func (f *Flags) Add(to *pflag.FlagSet) {
	to.StringVar(&f.Listen, "listen", "127.0.0.1:8437", "listen on `HOST:PORT`; without HOST, on all addresses of the machine; port 0 is any free port")
	to.StringVar(&f.Board, "board", "", "create the board `NAME` if it does not exist, and print its owner's link and QR code")
	to.StringVar(&f.Public, "public", "", "the `URL` under which others reach the server, such as https://pantry.example; links begin with it")
	to.StringVar(&f.Cert, "cert", "", "serve TLS with the certificate in `FILE`, which is read again when it changes")
	to.StringVar(&f.Key, "key", "", "the certificate's key, in `FILE`")
	d := server.DefaultLimits
	to.StringArrayVar(&f.limits, "limit", nil, fmt.Sprintf("set a limit, `NAME=VALUE`; the defaults are names=%d, bytes=%dMiB (each of a board), boards=%d, streams=%d, client-rate=%d, address-rate=%d, board-rate=%d (requests a second), write-rate=%dMiB (bytes a second); may be repeated",
		d.Names, d.Bytes>>20, d.Boards, d.Streams, d.ClientRate, d.AddressRate, d.BoardRate, d.WriteRate>>20))
	to.StringSliceVar(&f.proxies, "behind-proxy", nil, "take clients' addresses from X-Forwarded-For of the proxies in `CIDR[,CIDR]`, such as 10.0.0.0/8")
	to.BoolVar(&f.Verbose, "verbose", false, "log every request")
}

// ErrUsage is returned for flags that can't be combined or read.
var ErrUsage = errors.New("wrong flags")

func usage(format string, args ...any) error {
	return &usageError{fmt.Sprintf(format, args...)}
}

type usageError struct{ sentence string }

func (e *usageError) Error() string { return e.sentence }
func (e *usageError) Unwrap() error { return ErrUsage }

// Check returns an ErrUsage if the flags are wrong.
func (f *Flags) Check() error {
	if (f.Cert == "") != (f.Key == "") {
		return usage("--cert and --key must be used together: the certificate, and its key")
	}
	if f.Board != "" {
		if err := journal.CheckName(f.Board); err != nil {
			return usage("--board: %v", err)
		}
	}
	if f.Public != "" {
		u, err := url.Parse(f.Public)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "" || u.User != nil {
			return usage("--public is %q, and must be like https://HOST or http://HOST:PORT, without a path", f.Public)
		}
	}
	f.Proxies = nil
	for _, s := range f.proxies {
		p, err := netip.ParsePrefix(s)
		if err != nil {
			return usage("--behind-proxy: %q is not a network such as 10.0.0.0/8 or 192.168.1.5/32", s)
		}
		f.Proxies = append(f.Proxies, p)
	}
	_, err := f.Limits()
	return err
}

// Limits returns the limits set by the flags. The error is an ErrUsage.
func (f *Flags) Limits() (l server.Limits, err error) {
	for _, s := range f.limits {
		if err := l.Set(s); err != nil {
			return l, usage("--limit: %v", err)
		}
	}
	return l, nil
}

// Logger returns the log of the server.
func (f *Flags) Logger(w io.Writer) *slog.Logger {
	level := slog.LevelInfo
	if f.Verbose {
		level = slog.LevelDebug
	}
	return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: level}))
}

// Open listens, and returns the base address of links.
func (f *Flags) Open() (l net.Listener, public string, err error) {
	scheme := "http"
	var certs *certificate
	if f.Cert != "" {
		scheme = "https"
		if certs, err = loadCertificate(f.Cert, f.Key); err != nil {
			return nil, "", err
		}
	}
	if l, err = net.Listen("tcp", f.Listen); err != nil {
		return nil, "", fmt.Errorf("listen on %s: %w", f.Listen, err)
	}
	public = strings.TrimSuffix(f.Public, "/")
	if public == "" {
		public = scheme + "://" + reachable(l.Addr())
	}
	if certs != nil {
		l = tls.NewListener(l, &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return certs.get(), nil }, NextProtos: []string{"h2", "http/1.1"}, MinVersion: tls.VersionTLS12})
	}
	return l, public, nil
}

// reachable returns the address at which other machines reach a listener. For one on all addresses
// it is the first private address.
func reachable(addr net.Addr) string {
	tcp, ok := addr.(*net.TCPAddr)
	if !ok || !tcp.IP.IsUnspecified() {
		return addr.String()
	}
	host := "127.0.0.1"
	addrs, _ := net.InterfaceAddrs() // without one, only this machine can reach it
	for _, a := range addrs {
		if one, ok := a.(*net.IPNet); ok && one.IP.To4() != nil && one.IP.IsPrivate() {
			host = one.IP.String()
			break
		}
	}
	return net.JoinHostPort(host, fmt.Sprint(tcp.Port))
}

// Words are what a server prints at the start.
type Words struct {
	Out    io.Writer
	Colour bool   // Out is a terminal with colours
	Where  string // where the boards are stored, as a sentence
	Public string // the base address of links
	Pages  bool   // the developer's own index.html is served too
}

// Run prints that the server runs, and serves until ctx ends. Then it waits at most 5 seconds for
// requests under way. It closes l.
func (f *Flags) Run(ctx context.Context, s *server.Server, l net.Listener, w Words) error {
	if err := s.Check(l); err != nil {
		return errors.Join(err, l.Close())
	}
	AddProcessor()
	go LimitMemory(ctx)
	scheme := "http"
	if f.Cert != "" {
		scheme = "https"
	}
	fmt.Fprintf(w.Out, "serving on %s://%s\n", scheme, l.Addr())
	fmt.Fprintf(w.Out, "%s\n", w.Where)
	if path := s.AdminPath(); path != "" {
		fmt.Fprintf(w.Out, "the admin token, which owns every board, is in %s\n", path)
		fmt.Fprintf(w.Out, "%s%s\n", Encrypted(w.Public), hint(scheme, w.Public))
	}
	if f.Board != "" {
		if err := f.tellLink(ctx, s, w); err != nil {
			return errors.Join(err, l.Close())
		}
	}
	return s.Serve(ctx, l)
}

// hint returns how to make the server reachable for others.
func hint(scheme, public string) string {
	u, err := url.Parse(public)
	switch {
	case err != nil || scheme == "https":
		return ""
	case u.Scheme == "https":
		return ", except between " + public + " and this server"
	case wire.OnThisMachine(u.Hostname()):
		return "; --listen :8437 lets other machines in"
	}
	return "; --cert and --key encrypt it"
}

// tellLink prints the owner's link of a board.
func (f *Flags) tellLink(ctx context.Context, s *server.Server, w Words) error {
	link, made, err := s.OwnerLink(ctx, f.Board)
	if err != nil {
		return fmt.Errorf("the board %s: %w", f.Board, err)
	}
	is := "is there"
	if made {
		is = "is new"
	}
	fmt.Fprintf(w.Out, "\nthe board %s %s; this is its owner's link. Anyone who has it can do everything there:\n\n%s\n\n", f.Board, is, link)
	if base, token, ok := strings.Cut(link, "/boards/"+f.Board+"#"); ok && w.Pages {
		link = base + "/index.html#" + token
		fmt.Fprintf(w.Out, "your own page, with the same rights; scan it with a phone:\n\n%s\n\n", link)
	}
	err = qrcode.Print(w.Out, link, w.Colour)
	fmt.Fprintf(w.Out, "\nopen it in a browser, or try it in another terminal:  smallpantry add LINK tank/litres 420    smallpantry watch LINK\n")
	return err
}

// Encrypted says who can read what is sent to an address.
func Encrypted(address string) string {
	u, err := url.Parse(address)
	switch {
	case err == nil && u.Scheme == "https":
		return "encrypted: others on the network can't read what is sent"
	case err == nil && wire.OnThisMachine(u.Hostname()):
		return "not encrypted, and it does not leave this machine"
	}
	return "not encrypted: others on the network can read and change what is sent"
}
