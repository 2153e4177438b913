package debugview

// An Option is for Open.
type Option func(*options)

type options struct{ listen string }

// LAN has other machines on the network reach the view, whose link then begins with the
// first private address of this one. Nothing is encrypted: whoever is on the way can read it.
func LAN() Option { return func(o *options) { o.listen = ":0" } }

// Listen has the view answer at an address, HOST:PORT, in place of any free port of
// loopback.
func Listen(address string) Option { return func(o *options) { o.listen = address } }
