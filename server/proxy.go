package server

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// forwarded returns the address of the client of a request that came through the proxies of
// Options.BehindProxy. It reads X-Forwarded-For from the right, past the proxies. It returns "" if the
// request did not come through one of them.
func (s *Server) forwarded(r *http.Request, peer string) string {
	values := r.Header["X-Forwarded-For"]
	if len(values) == 0 {
		return ""
	}
	if !s.isProxy(peer) {
		s.notProxied.Do(func() {
			s.log.Warn("requests carry X-Forwarded-For, and their sender is not a proxy of --behind-proxy; the header changes nothing", "from", peer)
		})
		return ""
	}
	hops := strings.Split(strings.Join(values, ","), ",")
	for i := len(hops) - 1; i >= 0; i-- {
		hop := strings.TrimSpace(hops[i])
		if ip, err := netip.ParseAddr(hop); err != nil {
			return "" // a proxy wrote something else; the proxy's own address counts
		} else if !s.isProxy(hop) || i == 0 {
			return addressFrom(net.JoinHostPort(ip.String(), "0"))
		}
	}
	return ""
}

func (s *Server) isProxy(address string) bool {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(s.proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) })
}
