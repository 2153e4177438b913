package cluster

import (
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// A Balancer has one address in front of servers, as an operator's does: each
// connection goes to the next server that takes it.
type Balancer struct {
	l    net.Listener
	to   []string
	next atomic.Int64
	all  sync.WaitGroup

	mu    sync.Mutex // guards what follows
	conns map[net.Conn]bool
	over  bool
}

// Balance returns a Balancer, which runs until Close.
func Balance(to []string) (*Balancer, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &Balancer{l: l, to: to, conns: map[net.Conn]bool{}}
	b.all.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			b.all.Go(func() { b.serve(c) })
		}
	})
	return b, nil
}

// Address is its address, HOST:PORT.
func (b *Balancer) Address() string { return b.l.Addr().String() }

func (b *Balancer) serve(c net.Conn) {
	if !b.keep(c) {
		return
	}
	defer b.drop(c)
	for range b.to {
		s, err := net.DialTimeout("tcp", b.to[int(b.next.Add(1))%len(b.to)], 500*time.Millisecond)
		if err != nil {
			continue
		}
		if !b.keep(s) {
			return
		}
		defer b.drop(s)
		var there sync.WaitGroup
		there.Go(func() {
			_, _ = io.Copy(s, c)
			s.Close()
		})
		_, _ = io.Copy(c, s)
		c.Close() // so that no client waits for a server that is gone
		there.Wait()
		return
	}
}

func (b *Balancer) keep(c net.Conn) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.over {
		c.Close()
		return false
	}
	b.conns[c] = true
	return true
}

func (b *Balancer) drop(c net.Conn) {
	c.Close()
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.conns, c)
}

// Close ends all connections.
func (b *Balancer) Close() error {
	err := b.l.Close()
	b.mu.Lock()
	b.over = true
	for c := range b.conns {
		c.Close()
	}
	b.mu.Unlock()
	b.all.Wait()
	return err
}
