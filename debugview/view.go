package debugview

// An Option configures Open.
type Option func(*options)

type options struct{ listen string }

// LAN makes the view reachable from other machines. Its link then begins with the first private
// address of this machine. Nothing is encrypted: anybody on the network path can read it.
func LAN() Option { return func(o *options) { o.listen = ":0" } }

// Listen sets the address of the view, HOST:PORT. The default is a free port on loopback.
func Listen(address string) Option { return func(o *options) { o.listen = address } }
