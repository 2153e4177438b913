package etcd

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptrace"
	"strings"
	"sync"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/server"
)

const (
	alive = 5 // seconds for which a server that says nothing any more counts as there
	// answerWithin is how long a home may take before the board is written to from here.
	answerWithin = 2 * time.Second
	// avoided is for how long a home that did not answer is not asked again.
	avoided = 2 * time.Second

	headerHop  = "Pantry-Server" // shows that a request comes from another server
	headerFrom = "Pantry-Client" // the address of its client
)

// Peers are the servers on a store, of which this is one. Each registers where others reach
// it, for as long as it lives. They are safe for concurrent use.
type Peers struct {
	s      *Store
	self   string
	secret string
	http   *http.Client
	stop   context.CancelFunc
	done   chan struct{}

	// within is how long a home may take to answer what can be done elsewhere; what can't
	// may take as much longer as a commit may.
	within, longer time.Duration

	passed, refused counter

	mu      sync.RWMutex // guards what follows
	servers map[string]string
	avoid   map[string]time.Time
}

var _ server.Peers = (*Peers)(nil)

// PeerOptions are what a server among several needs.
type PeerOptions struct {
	// Address is how the other servers reach this one, http(s)://HOST:PORT.
	Address string
	// Secret is what all servers know and nobody else; the admin token is.
	Secret string
	// TLS is how it is made sure of that a server is one; nil: as the system does.
	TLS *tls.Config
}

// Join registers a server, and gives the others.
func (s *Store) Join(o PeerOptions) *Peers {
	mac := hmac.New(sha256.New, []byte(o.Secret))
	mac.Write([]byte("one server to another"))
	ctx, stop := context.WithCancel(context.Background())
	p := &Peers{
		s: s, self: strings.TrimSuffix(o.Address, "/"), secret: hex.EncodeToString(mac.Sum(nil)), stop: stop, done: make(chan struct{}),
		within: answerWithin, longer: patience, servers: map[string]string{}, avoid: map[string]time.Time{},
		http: &http.Client{
			Transport: &http.Transport{
				DialContext: (&net.Dialer{Timeout: time.Second}).DialContext, TLSClientConfig: o.TLS,
				MaxIdleConnsPerHost: 64, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: o.TLS != nil,
			},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
	s.peers.Store(p)
	var both sync.WaitGroup
	both.Go(func() { p.register(ctx) })
	both.Go(func() { p.watch(ctx) })
	go func() {
		both.Wait()
		close(p.done)
	}()
	return p
}

// Leave takes the server out of those that are homes.
func (p *Peers) Leave() {
	p.stop()
	<-p.done
	p.http.CloseIdleConnections()
}

// register keeps the server among the others until ctx ends.
func (p *Peers) register(ctx context.Context) {
	g := p.s.g
	for ctx.Err() == nil {
		id := p.registerOnce(ctx)
		if ctx.Err() != nil && id != 0 {
			one, cancel := context.WithTimeout(context.Background(), time.Second)
			_, _ = g.c.Revoke(one, id)
			cancel()
		}
		select {
		case <-time.After(lookAgain):
		case <-ctx.Done():
		}
	}
}

// registerOnce registers the server, until etcd has forgotten it.
func (p *Peers) registerOnce(ctx context.Context) clientv3.LeaseID {
	g := p.s.g
	one, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	lease, err := g.c.Grant(one, alive)
	if err != nil {
		return 0
	}
	if _, err = g.c.Put(one, g.keys.servers()+hex.EncodeToString([]byte(p.self)), p.self, clientv3.WithLease(lease.ID)); err != nil {
		return lease.ID
	}
	said, err := g.c.KeepAlive(ctx, lease.ID)
	if err != nil {
		return lease.ID
	}
	for range said {
	}
	return lease.ID
}

// watch keeps up which servers there are until ctx ends.
func (p *Peers) watch(ctx context.Context) {
	g := p.s.g
	under := g.keys.servers()
	for ctx.Err() == nil {
		resp, err := g.c.Get(ctx, under, clientv3.WithPrefix())
		if err == nil {
			all := map[string]string{}
			for _, kv := range resp.Kvs {
				all[string(kv.Key)] = string(kv.Value)
			}
			p.set(all)
			one, cancel := context.WithCancel(ctx)
			for news := range g.c.Watch(clientv3.WithRequireLeader(one), under, clientv3.WithPrefix(), clientv3.WithRev(resp.Header.Revision+1)) {
				if news.Err() != nil {
					break
				}
				for _, e := range news.Events {
					if e.Type == clientv3.EventTypePut {
						all[string(e.Kv.Key)] = string(e.Kv.Value)
					} else {
						delete(all, string(e.Kv.Key))
					}
				}
				p.set(all)
			}
			cancel()
		}
		select {
		case <-time.After(lookAgain):
		case <-ctx.Done():
		}
	}
}

func (p *Peers) set(all map[string]string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.servers = maps.Clone(all)
}

// Servers gives how the servers that are there are reached, in no order.
func (p *Peers) Servers() (all []string) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for _, one := range p.servers {
		all = append(all, one)
	}
	return all
}

// Home says where a board is written to: see server.Peers. Of all servers it is the one
// whose name and the board's give the highest hash, so that one server more or less moves
// no board between the others.
func (p *Peers) Home(board string) string {
	p.mu.RLock()
	defer p.mu.RUnlock()
	best, home := uint64(0), ""
	for _, one := range p.servers {
		if time.Now().Before(p.avoid[one]) {
			continue
		}
		h := fnv.New64a()
		_, _ = io.WriteString(h, one)
		_, _ = io.WriteString(h, " "+board)
		if n := mixed(h.Sum64()); home == "" || n > best || n == best && one < home {
			best, home = n, one
		}
	}
	if home == p.self {
		return ""
	}
	return home
}

// mixed spreads what differs in the last bytes alone over all bits.
func mixed(n uint64) uint64 {
	n ^= n >> 33
	n *= 0xff51afd7ed558ccd
	n ^= n >> 33
	n *= 0xc4ceb9fe1a85ec53
	return n ^ n>>33
}

// hop is what has no meaning for anybody but the two ends of a connection (RFC 9110, 7.6.1).
var hop = []string{"Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade"}

// Pass has the home of a board answer: see server.Peers. A request under a key may come
// twice, so that a home which is slow to answer can be passed by; any other only where
// nothing of it was sent.
func (p *Peers) Pass(w http.ResponseWriter, r *http.Request, body []byte, home string) (answered bool, err error) {
	again := r.Header.Get("Idempotency-Key") != ""
	within := p.within
	if !again {
		within += p.longer
	}
	ctx, cancel := context.WithTimeout(r.Context(), within)
	defer cancel()
	sent := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { sent = true }})
	out, err := http.NewRequestWithContext(ctx, r.Method, home+r.URL.RequestURI(), bytes.NewReader(body))
	if err != nil {
		return false, nil // it is not an address, and nothing was sent
	}
	out.Header = r.Header.Clone()
	for _, name := range hop {
		out.Header.Del(name)
	}
	out.Host = r.Host // by which links are made
	out.Header.Set(headerHop, p.secret)
	out.Header.Set(headerFrom, r.RemoteAddr)
	resp, err := p.http.Do(out)
	if err != nil {
		if r.Context().Err() != nil {
			return false, r.Context().Err()
		}
		p.shun(home)
		if sent && !again {
			return false, fmt.Errorf("%w: the server that writes this board did not answer: %w", ledger.ErrUncertain, err)
		}
		return false, nil
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		p.shun(home)
		if !again {
			return false, fmt.Errorf("%w: the server that writes this board broke off: %w", ledger.ErrUncertain, err)
		}
		return false, nil
	}
	p.passed.add()
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	for _, name := range hop {
		w.Header().Del(name)
	}
	w.WriteHeader(resp.StatusCode)
	_, _ = w.Write(answer) // what can't be sent any more, the client does not want
	return true, nil
}

// shun has no server asked again for a while that did not answer.
func (p *Peers) shun(home string) {
	p.refused.add()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.avoid[home] = time.Now().Add(avoided)
}

// From says whose request it is that another server passed on: see server.Peers.
func (p *Peers) From(r *http.Request) string {
	shown, client := r.Header.Get(headerHop), r.Header.Get(headerFrom)
	r.Header.Del(headerHop)
	r.Header.Del(headerFrom)
	if subtle.ConstantTimeCompare([]byte(shown), []byte(p.secret)) != 1 {
		return ""
	}
	return client
}

// AdminHash compares what stands for the admin token on this server with that of the others,
// and keeps it where there is none yet, or with replace. The error is ErrOtherAdmin.
func (s *Store) AdminHash(ctx context.Context, token string, replace bool) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	sum := sha256.Sum256([]byte(strings.TrimSpace(token)))
	mine, key := hex.EncodeToString(sum[:]), s.g.keys.admin()
	cond := clientv3.Compare(clientv3.CreateRevision(key), "=", 0)
	if replace {
		cond = clientv3.Compare(clientv3.CreateRevision(key), ">", -1)
	}
	held, says, _, err := s.g.do(ctx, write{cond: cond, then: []clientv3.Op{clientv3.OpPut(key, mine)}, els: []clientv3.Op{clientv3.OpGet(key)}})
	if err != nil || held {
		return err
	}
	if kvs := says[0].GetResponseRange().Kvs; len(kvs) == 0 || string(kvs[0].Value) != mine {
		return ErrOtherAdmin
	}
	return nil
}

// HasAdmin says whether a server has told of an admin token already.
func (s *Store) HasAdmin(ctx context.Context) (bool, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	resp, err := s.g.get(ctx, s.g.keys.admin())
	return err == nil && len(resp.Kvs) > 0, err
}

// ErrOtherAdmin is returned for an admin token that is not that of the other servers.
var ErrOtherAdmin = errors.New("the other servers on this store have another admin token")
