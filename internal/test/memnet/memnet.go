// Package memnet is a network in memory. In a testing/synctest bubble a server and its clients run
// on it with fake time: only goroutines of the bubble can wake each other, so a real socket would
// keep the clock from advancing.
package memnet

import (
	"context"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
)

// A Listener accepts the connections that Dial makes. It is safe for concurrent use.
type Listener struct {
	addr   *net.TCPAddr
	conns  chan net.Conn
	closed chan struct{}
	close  sync.Once
}

var ports atomic.Int64

// Listen returns a listener at an address of its own, which looks like one of loopback.
func Listen() *Listener {
	return &Listener{addr: address(), conns: make(chan net.Conn), closed: make(chan struct{})}
}

func address() *net.TCPAddr {
	return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: int(1 + ports.Add(1)%65_535)}
}

// Dial connects to the listener. The error is net.ErrClosed once it is closed.
func (l *Listener) Dial() (net.Conn, error) {
	here, there := net.Pipe()
	from := address()
	select {
	case l.conns <- conn{there, l.addr, from}:
		return conn{here, from, l.addr}, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

// Client returns an HTTP client whose requests all go to the listener. Close its idle connections
// at the end of the test.
func (l *Listener) Client() *http.Client {
	return &http.Client{Transport: &http.Transport{
		DialContext: func(context.Context, string, string) (net.Conn, error) { return l.Dial() },
	}}
}

// Accept waits for the next connection.
func (l *Listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

// Close stops the listener. Connections stay open.
func (l *Listener) Close() error {
	l.close.Do(func() { close(l.closed) })
	return nil
}

// Addr returns the listener's address.
func (l *Listener) Addr() net.Addr { return l.addr }

type conn struct {
	net.Conn
	local, remote *net.TCPAddr
}

func (c conn) LocalAddr() net.Addr  { return c.local }
func (c conn) RemoteAddr() net.Addr { return c.remote }
