package server

import (
	"errors"
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/small-pantry/pantry/internal/wire"
)

// ErrNotLoopback is returned by Serve in development mode for a listener that other machines can
// reach.
var ErrNotLoopback = errors.New("development mode has no tokens, so it serves this machine only: listen on 127.0.0.1")

func loopback(addr net.Addr) bool {
	tcp, ok := addr.(*net.TCPAddr)
	return ok && tcp.IP.IsLoopback()
}

// devHosts are the names of this machine. 10.0.2.2 is the name that a phone emulator uses for the
// machine that it runs on.
var devHosts = []string{"localhost", "127.0.0.1", "[::1]", "10.0.2.2"}

// guardDev accepts only requests of this machine, and pages that this machine serves at any port.
// There is no other protection in development mode. So it refuses pages of other sites, even if
// their name resolves to this machine (DNS rebinding), and proxies, which could open it to the
// world.
func guardDev(r *http.Request, page bool) error {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return wire.Refuse("forbidden", "the server is in development mode and answers this machine only")
	}
	for name := range r.Header {
		if name == "Forwarded" || strings.HasPrefix(name, "X-Forwarded-") {
			return wire.Refuse("forbidden", "the server is in development mode and does not answer through a proxy (header %s)", name)
		}
	}
	if !ownHost(r) {
		return wire.Refuse("forbidden", "the server is in development mode and is called localhost, 127.0.0.1, [::1] or 10.0.2.2, not %q", r.Host)
	}
	origins := r.Header.Values("Origin")
	for _, origin := range origins {
		if !ownOrigin(origin) {
			return wire.Refuse("forbidden", "the server is in development mode and does not answer pages of another site (%q)", origin)
		}
	}
	if len(origins) == 0 && !page && r.Header.Get("Sec-Fetch-Site") == "cross-site" {
		return wire.Refuse("forbidden", "the server is in development mode and does not answer pages of another site")
	}
	return nil
}

func ownHost(r *http.Request) bool {
	local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok {
		return false
	}
	_, port, err := net.SplitHostPort(local.String())
	if err != nil {
		return false
	}
	for _, name := range devHosts {
		if r.Host == name+":"+port || r.Host == name && port == "80" {
			return true
		}
	}
	return false
}

// ownOrigin reports whether a page comes from this machine, at any port.
func ownOrigin(origin string) bool {
	u, err := url.Parse(origin)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.Path != "" {
		return false
	}
	return wire.OnThisMachine(u.Hostname())
}
