package wire

import "net"

// OnThisMachine reports whether the host of a URL, without its port, is this machine.
func OnThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
