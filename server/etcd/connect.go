package etcd

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc"

	"github.com/small-pantry/pantry/internal/journal"
)

// A mark of the store itself, under the key e.
type storeMark struct {
	Format    int    `json:"format"`
	Random    string `json:"random"`              // drawn when the store was created or restored
	Restoring bool   `json:"restoring,omitempty"` // that is not complete
}

// ErrNewer is returned for a store of a later format.
var ErrNewer = errors.New("a later program has written to this store: use a newer one")

// checkVersions reports nodes of a group that are too old.
func (s *Store) checkVersions(ctx context.Context, g *group) {
	for _, at := range g.c.Endpoints() {
		one, cancel := context.WithTimeout(ctx, lookTime)
		if resp, err := g.c.Status(one, at); err == nil {
			if err := tooOld("the node "+at, resp.Version); err != nil {
				s.problem("", err)
			}
		}
		cancel()
	}
}

// connect returns the groups, the first one first. It does not check that they answer.
func connect(o Options) (all []*group, err error) {
	prefix := strings.TrimSuffix(cmp.Or(o.Prefix, DefaultPrefix), "/") + "/"
	for _, one := range append([]Group{{Endpoints: o.Endpoints}}, o.Groups...) {
		if one.TLS == nil {
			one.TLS = o.TLS
		}
		c, err := clientv3.New(clientConfig(one.Endpoints, one.TLS))
		if err != nil {
			return nil, errors.Join(fmt.Errorf("etcd: %w", err), disconnect(all))
		}
		g := newGroup(c, prefix)
		g.name, g.tls = one.Name, one.TLS
		all = append(all, g)
	}
	return all, nil
}

// clientConfig returns the configuration of the client for nodes.
func clientConfig(endpoints []string, of func(host string) *tls.Config) clientv3.Config {
	c := clientv3.Config{
		Endpoints: endpoints, DialTimeout: patience, Logger: zap.NewNop(),
		DialKeepAliveTime: 10 * time.Second, DialKeepAliveTimeout: 3 * time.Second,
	}
	if of == nil {
		return c
	}
	// The client would keep one configuration for ever, so the dialer encrypts, and the client does not.
	c.Endpoints = slices.Clone(endpoints)
	for i, e := range c.Endpoints {
		c.Endpoints[i] = strings.TrimPrefix(e, "https://")
	}
	c.DialOptions = []grpc.DialOption{grpc.WithContextDialer(func(ctx context.Context, addr string) (net.Conn, error) {
		return dialTLS(ctx, "tcp", addr, of)
	})}
	return c
}

// dialTLS connects by TLS with the configuration for the host.
func dialTLS(ctx context.Context, network, addr string, of func(host string) *tls.Config) (net.Conn, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	d := tls.Dialer{NetDialer: &net.Dialer{Timeout: time.Second}, Config: of(host)}
	return d.DialContext(ctx, network, addr)
}

func disconnect(all []*group) (err error) {
	for _, g := range all {
		err = errors.Join(err, g.c.Close())
	}
	return err
}

// claim reads the mark of the store, or creates it. The errors are ErrNewer, ErrRestoring and those of etcd.
func (g *group) claim(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*patience)
	defer cancel()
	resp, err := g.get(ctx, g.keys.store())
	if err != nil {
		return err
	}
	if len(resp.Kvs) == 0 {
		raw, err := json.Marshal(storeMark{Format: format, Random: draw()})
		if err != nil {
			return err
		}
		key := g.keys.store()
		_, err = g.c.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(key), "=", 0)).Then(clientv3.OpPut(key, string(raw))).Commit()
		if err != nil {
			return g.noMajority(ctx, err)
		}
		return g.claim(ctx)
	}
	var m storeMark
	if err := json.Unmarshal(resp.Kvs[0].Value, &m); err != nil {
		return &journal.DamageError{Path: g.keys.store(), Line: 1, Reason: err.Error()}
	}
	if m.Format > format {
		return ErrNewer
	}
	if m.Restoring {
		return ErrRestoring
	}
	return nil
}
