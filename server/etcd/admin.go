package etcd

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"

	clientv3 "go.etcd.io/etcd/client/v3"
)

// AdminHash compares the hash of this server's admin token with that of the other servers. It
// stores the hash if there is none yet, or with replace. The error is ErrOtherAdmin.
func (s *Store) AdminHash(ctx context.Context, token string, replace bool) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	sum := sha256.Sum256([]byte(strings.TrimSpace(token)))
	mine, key := hex.EncodeToString(sum[:]), s.g.keys.admin()
	resp, err := s.g.get(ctx, key) // a store without space can be read
	if err != nil {
		return err
	}
	switch known := len(resp.Kvs) > 0; {
	case known && string(resp.Kvs[0].Value) == mine:
		return nil
	case known && !replace:
		return ErrOtherAdmin
	}
	cond := clientv3.Compare(clientv3.CreateRevision(key), "=", 0)
	if replace {
		cond = clientv3.Compare(clientv3.CreateRevision(key), ">", -1)
	}
	held, says, _, err := s.g.do(ctx, write{cond: []clientv3.Cmp{cond}, then: []clientv3.Op{clientv3.OpPut(key, mine)}, els: []clientv3.Op{clientv3.OpGet(key)}})
	if err != nil || held {
		return err
	}
	if kvs := says[0].GetResponseRange().Kvs; len(kvs) == 0 || string(kvs[0].Value) != mine {
		return ErrOtherAdmin
	}
	return nil
}

// HasAdmin reports whether a server has stored the hash of an admin token.
func (s *Store) HasAdmin(ctx context.Context) (bool, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	resp, err := s.g.get(ctx, s.g.keys.admin())
	return err == nil && len(resp.Kvs) > 0, err
}

// ErrOtherAdmin is returned for an admin token that differs from that of the other servers.
var ErrOtherAdmin = errors.New("the other servers on this store have another admin token")
