// Package node runs nodes of etcd inside a program, for tests and for the demo. An
// operator runs etcd itself.
package node

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/client/pkg/v3/transport"
	"go.etcd.io/etcd/server/v3/embed"
	"go.uber.org/zap"
)

// A Member is one node of a cluster, on loopback.
type Member struct {
	Name   string
	Dir    string
	Client string // HOST:PORT
	Peer   string // HOST:PORT
	// Quota is how many bytes it takes; 0: as etcd has it.
	Quota int64
	// Certificates is a directory with ca.pem, cert.pem and key.pem for all connections; "": no encryption.
	Certificates string
	// NoSync leaves writes to the operating system, so that tests don't depend on the speed of a disk. The end
	// of a process loses nothing, and a power cut can.
	NoSync bool
}

// Plan returns the members of a cluster of n, under a directory, at free ports.
func Plan(dir string, n int) ([]Member, error) {
	var out []Member
	for i := range n {
		client, err := FreeAddress()
		if err != nil {
			return nil, err
		}
		peer, err := FreeAddress()
		if err != nil {
			return nil, err
		}
		name := fmt.Sprintf("node%d", i+1)
		out = append(out, Member{Name: name, Dir: dir + "/" + name, Client: client, Peer: peer})
	}
	return out, nil
}

// FreeAddress returns a loopback address that is not in use, another each time. Its port is below those that
// systems choose for connections, so that none takes it before somebody listens.
func FreeAddress() (address string, err error) {
	for range 100 {
		address = "127.0.0.1:" + strconv.Itoa(20_000+rand.IntN(12_000))
		if _, before := drawn.LoadOrStore(address, true); before {
			continue
		}
		var l net.Listener
		if l, err = net.Listen("tcp", address); err == nil {
			return address, l.Close()
		}
	}
	return "", fmt.Errorf("no free port of 100: %w", err)
}

var drawn sync.Map // of the addresses that FreeAddress returned

// Endpoints are the client addresses of members.
func Endpoints(members []Member) (out []string) {
	for _, m := range members {
		out = append(out, m.Client)
	}
	return out
}

// A Node runs.
type Node struct{ e *embed.Etcd }

// Start runs one member of a cluster, which continues with its directory.
func Start(m Member, all []Member) (*Node, error) {
	cfg := embed.NewConfig()
	cfg.Name, cfg.Dir = m.Name, m.Dir
	scheme := "http"
	if dir := m.Certificates; dir != "" {
		scheme = "https"
		cfg.ClientTLSInfo = transport.TLSInfo{
			TrustedCAFile: filepath.Join(dir, "ca.pem"), CertFile: filepath.Join(dir, "cert.pem"), KeyFile: filepath.Join(dir, "key.pem"), ClientCertAuth: true,
		}
		cfg.PeerTLSInfo = cfg.ClientTLSInfo
	}
	at := func(address string) []url.URL { return []url.URL{{Scheme: scheme, Host: address}} }
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = at(m.Client), at(m.Client)
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = at(m.Peer), at(m.Peer)
	var cluster []string
	for _, one := range all {
		cluster = append(cluster, one.Name+"="+scheme+"://"+one.Peer)
	}
	cfg.InitialCluster = strings.Join(cluster, ",")
	cfg.ZapLoggerBuilder = embed.NewZapLoggerBuilder(zap.NewNop())
	cfg.QuotaBackendBytes, cfg.UnsafeNoFsync = m.Quota, m.NoSync
	cfg.AutoCompactionMode, cfg.AutoCompactionRetention = "periodic", "10m"
	e, err := embed.StartEtcd(cfg)
	if err != nil {
		return nil, err
	}
	return &Node{e}, nil
}

// Ready waits until the node has a leader.
func (n *Node) Ready(within time.Duration) error {
	select {
	case <-n.e.Server.ReadyNotify():
		return nil
	case err := <-n.e.Err():
		return err
	case <-time.After(within):
		return errors.New("the node found no leader in time")
	}
}

// Leads says whether the node is the leader.
func (n *Node) Leads() bool { return n.e.Server.Leader() == n.e.Server.MemberID() }

// Close stops the node.
func (n *Node) Close() { n.e.Close() }
