package server

import (
	"container/list"
	"net"
	"sync"
)

// connections bounds how many connections have not sent a request with a valid token, so that idle
// ones don't keep phones out. When it is full, the oldest is closed; a new one is never refused.
type connections struct {
	most, perAddress int

	mu     sync.Mutex // guards the following fields
	oldest *list.List // of *connection, in order of arrival
	at     map[net.Conn]*list.Element
	count  map[string]int // by address
}

type connection struct {
	conn    net.Conn
	address string
}

// maxConnections is the bound, unless the process may open fewer than four times as many files.
const maxConnections = 1000

func newConnections(files int) *connections {
	most := maxConnections
	if files > 0 {
		most = max(min(most, files/4), 4)
	}
	return &connections{most: most, perAddress: max(most/4, 1), oldest: list.New(), at: map[net.Conn]*list.Element{}, count: map[string]int{}}
}

// add counts a new connection. It closes the oldest one if there are too many: of the same address,
// except loopback, or of all.
func (c *connections) add(conn net.Conn, address string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var over *list.Element
	switch {
	case c.count[address] >= c.perAddress && !local(address):
		for over = c.oldest.Front(); over.Value.(*connection).address != address; over = over.Next() {
		}
	case len(c.at) >= c.most:
		over = c.oldest.Front()
	}
	if over != nil {
		old := over.Value.(*connection)
		c.remove(old.conn)
		_ = old.conn.Close()
	}
	c.at[conn] = c.oldest.PushBack(&connection{conn, address})
	c.count[address]++
}

// done stops counting a connection: it has sent a valid token, or is closed.
func (c *connections) done(conn net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.remove(conn)
}

// remove needs mu.
func (c *connections) remove(conn net.Conn) {
	e := c.at[conn]
	if e == nil {
		return
	}
	delete(c.at, conn)
	one := c.oldest.Remove(e).(*connection)
	if c.count[one.address]--; c.count[one.address] == 0 {
		delete(c.count, one.address)
	}
}

// local reports whether an address is of this machine, where a proxy can be that speaks for others.
func local(address string) bool {
	ip := net.ParseIP(address)
	return ip == nil || ip.IsLoopback()
}
