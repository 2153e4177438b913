package etcd

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// oldestVersion is the oldest minor version of etcd 3 that the tests run with.
const oldestVersion = 5

// The shares and times from which a Status needs attention.
const (
	fullShare  = 0.8 // of a node's space
	soonEnding = 14 * 24 * time.Hour
)

// tooOld returns an error for a version of etcd that the tests do not run with.
func tooOld(node, version string) error {
	var major, minor int
	if _, err := fmt.Sscanf(version, "%d.%d", &major, &minor); err == nil && (major < 3 || major == 3 && minor < oldestVersion) {
		return fmt.Errorf("%s runs etcd %s; 3.%d or later is needed", node, version, oldestVersion)
	}
	return nil
}

// lookTime is how long each node and server has to answer.
const lookTime = 3 * time.Second

// A Status is the state of nodes and servers at one moment. It can be read without a majority of the nodes.
type Status struct {
	Nodes   []NodeStatus
	Servers []ServerStatus // empty if no node of the first group answers
	// Findings are sentences about what needs somebody's attention.
	Findings []string
}

// A NodeStatus is the state of one node of etcd.
type NodeStatus struct {
	Group    string // "" is the first one
	Endpoint string
	Version  string
	Leader   bool
	Size     int64 // of its file, in bytes
	InUse    int64 // of that
	Quota    int64 // the largest size of the file; 0 means unknown
	Alarms   []string
	Ends     time.Time // when its certificate ends; zero means that it shows none
	Err      error     // why it does not answer; nil if it does
}

// A ServerStatus is the state of one registered server.
type ServerStatus struct {
	Address string
	Ready   bool      // it takes requests
	Homes   int       // shards of the 64 that it is the home of
	Ends    time.Time // when its certificate ends; zero means that it shows none
	Err     error     // why it can't be reached; nil if it can
}

// ReadStatus asks every node and every server. peer is the configuration of connections to other servers;
// nil uses the system's defaults. It returns an error if no client can be made of the options.
func ReadStatus(ctx context.Context, o Options, peer func(host string) *tls.Config) (s Status, err error) {
	groups, err := connect(o)
	if err != nil {
		return s, err
	}
	defer func() { err = errors.Join(err, disconnect(groups)) }()
	for _, g := range groups {
		s.Nodes = append(s.Nodes, g.nodes(ctx)...)
	}
	addresses, known := groups[0].registered(ctx)
	for _, a := range addresses {
		s.Servers = append(s.Servers, serverStatus(ctx, a, peer))
	}
	s.share()
	s.find(known, time.Now())
	return s, nil
}

// nodes asks each node of a group.
func (g *group) nodes(ctx context.Context) (all []NodeStatus) {
	alarms := map[uint64][]string{}
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	if resp, err := g.c.AlarmList(ctx); err == nil {
		for _, a := range resp.Alarms {
			alarms[a.MemberID] = append(alarms[a.MemberID], a.Alarm.String())
		}
	}
	for _, endpoint := range g.c.Endpoints() {
		n := NodeStatus{Group: g.name, Endpoint: endpoint}
		one, done := context.WithTimeout(context.WithoutCancel(ctx), lookTime)
		resp, err := g.c.Status(one, endpoint)
		if n.Err = err; err == nil {
			n.Version, n.Leader, n.Size, n.InUse, n.Quota = resp.Version, resp.Leader == resp.Header.MemberId, resp.DbSize, resp.DbSizeInUse, resp.DbSizeQuota
			n.Alarms = alarms[resp.Header.MemberId]
			if resp.Leader == 0 {
				n.Alarms = append(n.Alarms, "no leader")
			}
		}
		if g.tls != nil {
			n.Ends = ends(one, strings.TrimPrefix(endpoint, "https://"), g.tls)
		}
		done()
		all = append(all, n)
	}
	return all
}

// registered returns the addresses of the servers, from any node. known is false if no node answers.
func (g *group) registered(ctx context.Context) (all []string, known bool) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	resp, err := g.c.Get(ctx, g.keys.servers(), clientv3.WithPrefix(), clientv3.WithSerializable())
	if err != nil {
		return nil, false
	}
	for _, kv := range resp.Kvs {
		all = append(all, string(kv.Value))
	}
	slices.Sort(all)
	return slices.Compact(all), true
}

// serverStatus asks a server.
func serverStatus(ctx context.Context, address string, peer func(host string) *tls.Config) ServerStatus {
	s := ServerStatus{Address: address}
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	transport := peerTransport(peer)
	defer transport.CloseIdleConnections()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/readyz", nil)
	if err != nil {
		s.Err = err
		return s
	}
	resp, err := transport.RoundTrip(req)
	if err != nil {
		s.Err = err
		return s
	}
	defer resp.Body.Close()
	s.Ready = resp.StatusCode == http.StatusOK
	if u, err := url.Parse(address); err == nil && u.Scheme == "https" && peer != nil {
		s.Ends = ends(ctx, u.Host, peer)
	}
	return s
}

// ends returns when the certificate of an address ends; zero if there is none to see.
func ends(ctx context.Context, address string, of func(host string) *tls.Config) time.Time {
	conn, err := dialTLS(ctx, "tcp", address, of)
	if err != nil {
		return time.Time{}
	}
	defer conn.Close()
	if c, ok := conn.(*tls.Conn); ok && len(c.ConnectionState().PeerCertificates) > 0 {
		return c.ConnectionState().PeerCertificates[0].NotAfter
	}
	return time.Time{}
}

// share counts the shards that have each server as their home.
func (s *Status) share() {
	p := &Peers{servers: map[string]string{}}
	for _, one := range s.Servers {
		p.servers[one.Address] = one.Address
	}
	homes := map[string]int{}
	for i := range shards {
		homes[p.homeOf(i, nil)]++
	}
	for i := range s.Servers {
		s.Servers[i].Homes = homes[s.Servers[i].Address]
	}
}

// find collects what needs attention.
func (s *Status) find(known bool, now time.Time) {
	add := func(format string, args ...any) { s.Findings = append(s.Findings, fmt.Sprintf(format, args...)) }
	ending := func(what string, at time.Time) {
		switch left := at.Sub(now); {
		case at.IsZero():
		case left < 0:
			add("the certificate of %s ended on %s", what, at.Format(time.DateOnly))
		case left < soonEnding:
			add("the certificate of %s ends on %s; renew it, and it is read again by itself", what, at.Format(time.DateOnly))
		}
	}
	for _, n := range s.Nodes {
		what := "node " + n.Endpoint
		if n.Group != "" {
			what += " of group " + n.Group
		}
		ending(what, n.Ends)
		if n.Err != nil {
			if errors.Is(n.Err, context.DeadlineExceeded) {
				add("%s does not answer within %v", what, lookTime)
			} else {
				add("%s does not answer: %v", what, n.Err)
			}
			continue
		}
		if err := tooOld(what, n.Version); err != nil {
			s.Findings = append(s.Findings, err.Error())
		}
		for _, a := range n.Alarms {
			if a == etcdserverpb.AlarmType_NOSPACE.String() {
				add("%s has no space left: nothing can be stored until it is defragmented, or has a larger quota, and the alarm is disarmed", what)
			} else {
				add("%s reports %s", what, a)
			}
		}
		if n.Quota > 0 && float64(n.InUse) > fullShare*float64(n.Quota) {
			add("%s uses %d %% of its space: raise its quota, or add a group", what, 100*n.InUse/n.Quota)
		}
	}
	if !known {
		add("no node of the first group answers, so the servers are not known")
	} else if len(s.Servers) == 0 {
		add("no server is registered")
	}
	for _, one := range s.Servers {
		what := "server " + one.Address
		ending(what, one.Ends)
		switch {
		case one.Err != nil:
			add("%s can't be reached: %v", what, cmp.Or(errors.Unwrap(one.Err), one.Err))
		case !one.Ready:
			add("%s does not take requests; its log has the cause", what)
		}
	}
}
