package wire

import "net"

// OnThisMachine says whether the host of a URL, without its port, is this machine by
// whatever name.
func OnThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
