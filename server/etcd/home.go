package etcd

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/engine"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.etcd.io/etcd/client/v3/concurrency"
)

const (
	aliveFor = 5 // seconds until a silent server counts as gone
	// answerWithin is how long a home has to answer before the board is written from here.
	answerWithin = 2 * time.Second
	// A home that did not answer is not asked again for a while, which doubles with each failure.
	firstShun, longestShun = 2 * time.Second, time.Minute

	headerHop  = "Pantry-Server" // marks a request as coming from another server
	headerFrom = "Pantry-Client" // the address of its client
)

// Peers are the servers on a store, including this one. Each registers its address for the others
// while it lives. They are safe for concurrent use.
type Peers struct {
	s      *Store
	alive  int // in seconds
	self   string
	secret string
	http   *http.Client
	stop   context.CancelFunc
	done   chan struct{}
	lease  clientv3.LeaseID // of the newest registration; only register uses it

	// within is how long a home can take to answer what another server can do too. What only the home
	// can do may take longer, by the time of a commit.
	within, longer time.Duration

	passed, refused counter

	mu      sync.RWMutex // guards the following fields
	servers map[string]string
	homes   [shards]string // computed from servers
	shunned map[string]*shunned
}

// A shunned server did not answer.
type shunned struct {
	until time.Time     // it is not asked before
	pause time.Duration // until then; it grows with each failure
}

// PeerOptions are the settings of a server among several.
type PeerOptions struct {
	// Address is this server's address for the others, http(s)://HOST:PORT.
	Address string
	// Secret is known only to the servers, as the admin token is.
	Secret string
	// TLS returns the configuration of a new connection to another server; nil uses the system's defaults.
	TLS func(host string) *tls.Config

	alive int // in place of aliveFor, for tests
}

var _ engine.Peers = (*Store)(nil)

// Home, Pass and From are those of the servers that this one has joined: see engine.Peers. Before
// Join there are none.
func (s *Store) Home(board string) string {
	if p := s.peers.Load(); p != nil {
		return p.Home(board)
	}
	return ""
}

func (s *Store) Pass(w http.ResponseWriter, r *http.Request, body []byte, home string) (answered bool, err error) {
	if p := s.peers.Load(); p != nil {
		return p.pass(w, r, body, home)
	}
	return false, nil
}

func (s *Store) From(r *http.Request) string {
	if p := s.peers.Load(); p != nil {
		return p.from(r)
	}
	return ""
}

// Join registers a server and returns the others.
func (s *Store) Join(o PeerOptions) *Peers {
	mac := hmac.New(sha256.New, []byte(o.Secret))
	mac.Write([]byte("one server to another"))
	ctx, stop := context.WithCancel(context.Background())
	p := &Peers{
		s: s, self: strings.TrimSuffix(o.Address, "/"), secret: hex.EncodeToString(mac.Sum(nil)), stop: stop, done: make(chan struct{}),
		within: answerWithin, longer: patience, alive: cmp.Or(o.alive, aliveFor), servers: map[string]string{}, shunned: map[string]*shunned{},
		http: &http.Client{
			Transport:     peerTransport(o.TLS),
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

func peerTransport(of func(host string) *tls.Config) *http.Transport {
	t := &http.Transport{DialContext: (&net.Dialer{Timeout: time.Second}).DialContext, MaxIdleConnsPerHost: 64, IdleConnTimeout: time.Minute}
	if of != nil {
		t.ForceAttemptHTTP2 = true
		t.DialTLSContext = func(ctx context.Context, network, addr string) (net.Conn, error) {
			return dialTLS(ctx, network, addr, of)
		}
	}
	return t
}

// Leave removes the server from those that can be homes.
func (p *Peers) Leave() {
	p.stop()
	<-p.done
	p.s.own(allShards())
	p.http.CloseIdleConnections()
}

// register keeps the server registered until ctx ends.
func (p *Peers) register(ctx context.Context) {
	for ctx.Err() == nil {
		if session, err := p.enter(ctx); err == nil {
			select {
			case <-session.Done(): // etcd has forgotten it
			case <-ctx.Done():
				_ = session.Close() // otherwise the registration expires
			}
		}
		select {
		case <-time.After(lookAgain):
		case <-ctx.Done():
		}
	}
}

// enter registers the server for the time of the session. If etcd still has the earlier registration, as after
// a restart of its nodes, that one goes on: a full etcd accepts no new one.
func (p *Peers) enter(ctx context.Context) (*concurrency.Session, error) {
	g := p.s.g
	one, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if p.lease != 0 {
		if _, err := g.c.KeepAliveOnce(one, p.lease); err == nil {
			return concurrency.NewSession(g.c, concurrency.WithTTL(p.alive), concurrency.WithLease(p.lease))
		}
	}
	lease, err := g.c.Grant(one, int64(p.alive)) // without this, NewSession would wait for ever
	if err != nil {
		return nil, err
	}
	session, err := concurrency.NewSession(g.c, concurrency.WithTTL(p.alive), concurrency.WithLease(lease.ID))
	if err != nil {
		return nil, err
	}
	if _, err = g.c.Put(one, g.keys.servers()+hex.EncodeToString([]byte(p.self)), p.self, clientv3.WithLease(session.Lease())); err != nil {
		return nil, errors.Join(err, session.Close())
	}
	p.lease = session.Lease()
	return session, nil
}

// watch keeps the list of servers current until ctx ends.
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

// set uses a list of servers, and watches the shards whose home this server is.
func (p *Peers) set(all map[string]string) {
	p.mu.Lock()
	p.servers = maps.Clone(all)
	for one := range p.shunned {
		if !slices.Contains(slices.Collect(maps.Values(all)), one) {
			delete(p.shunned, one)
		}
	}
	var own [shards]bool
	for i := range own {
		p.homes[i] = p.homeOf(i, nil)
		own[i] = p.homes[i] == p.self
	}
	p.mu.Unlock()
	p.s.own(own)
}

// own watches shards whole.
func (s *Store) own(these [shards]bool) {
	for _, g := range s.groups {
		g.feed.own(these)
	}
}

// Servers returns the addresses of the live servers, in no order.
func (p *Peers) Servers() (all []string) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	for _, one := range p.servers {
		all = append(all, one)
	}
	return all
}

// Home returns the server that writes a board: see engine.Peers. All boards of a shard have the same home.
// One that did not answer is left out until it is asked again: by one caller, whose call says how it is.
func (p *Peers) Home(board string) string {
	shard := shardOf(board)
	p.mu.RLock()
	home := p.homes[shard]
	shun := p.shunned[home]
	p.mu.RUnlock()
	if shun != nil {
		home = p.probe(shard, home)
	}
	if home == p.self {
		return ""
	}
	return home
}

// probe returns the home of a shard whose first choice is shunned. If the time has come to ask that one
// again, it is the home for this caller alone.
func (p *Peers) probe(shard int, first string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if s := p.shunned[first]; s == nil || now.After(s.until) {
		if s != nil {
			s.until = now.Add(p.within + p.longer) // by then this caller has its answer
		}
		return first
	}
	return p.homeOf(shard, func(one string) bool { return p.shunned[one] == nil })
}

// homeOf returns the server of those that may be the home (nil: all) whose name, hashed with the
// shard, has the highest value. So a server more or less moves only its own shards. mu must be held.
func (p *Peers) homeOf(shard int, may func(server string) bool) string {
	best, home := uint64(0), ""
	for _, one := range p.servers {
		if may != nil && !may(one) {
			continue
		}
		h := fnv.New64a()
		_, _ = fmt.Fprintf(h, "%s %02x", one, shard)
		if n := mixed(h.Sum64()); home == "" || n > best || n == best && one < home {
			best, home = n, one
		}
	}
	return home
}

// mixed spreads differences in the last bytes over all bits.
func mixed(n uint64) uint64 {
	n ^= n >> 33
	n *= 0xff51afd7ed558ccd
	n ^= n >> 33
	n *= 0xc4ceb9fe1a85ec53
	return n ^ n>>33
}
