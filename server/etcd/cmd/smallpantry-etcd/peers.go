package main

import (
	"net/http"
	"sync/atomic"

	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/server/etcd"
)

// latePeers are those of a server that is begun before it has joined them; until then there
// are none.
type latePeers struct{ p atomic.Pointer[etcd.Peers] }

var _ server.Peers = (*latePeers)(nil)

func (l *latePeers) set(p *etcd.Peers) { l.p.Store(p) }

func (l *latePeers) Home(board string) string {
	if p := l.p.Load(); p != nil {
		return p.Home(board)
	}
	return ""
}

func (l *latePeers) Pass(w http.ResponseWriter, r *http.Request, body []byte, home string) (bool, error) {
	return l.p.Load().Pass(w, r, body, home)
}

func (l *latePeers) From(r *http.Request) string {
	if p := l.p.Load(); p != nil {
		return p.From(r)
	}
	return ""
}
