package etcd

import (
	"context"
	"strings"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// askAlive is the interval at which a quiet feed is checked.
const askAlive = 300 * time.Millisecond

// A listener receives the events of a feed.
type listener interface {
	wrote(board string, b batch) // a batch, or a head alone
	made(board string)
	removed(board string)
	assigned(board, group string, is bool) // the group of a board, or none any more
	missed(g *group)                       // events can be missing
}

// follow delivers what is written after a revision, until ctx ends. It only uses nodes that know a
// leader, continues where it was interrupted, and reports if it can't.
func (g *group) follow(ctx context.Context, after int64, to listener) {
	ctx = clientv3.WithRequireLeader(ctx)
	go func() {
		for tick := time.NewTicker(askAlive); ; {
			select {
			case <-tick.C:
				_ = g.c.RequestProgress(ctx)
			case <-ctx.Done():
				tick.Stop()
				return
			}
		}
	}()
	from, end := g.keys.fed()
	for wait, first := 10*time.Millisecond, true; ctx.Err() == nil; wait, first = min(2*wait, 500*time.Millisecond), false {
		if !first { // what was delivered before is not trusted any more
			to.missed(g)
		}
		one, cancel := context.WithCancel(ctx)
		for resp := range g.c.Watch(one, from, clientv3.WithRange(end), clientv3.WithRev(after+1), clientv3.WithProgressNotify()) {
			if resp.CompactRevision > 0 { // the events of the meantime are gone
				after = resp.CompactRevision - 1
				break
			}
			if resp.Err() != nil {
				break
			}
			g.tell(resp.Events, to)
			after = max(after, resp.Header.Revision)
			g.heard.Store(time.Now().UnixNano())
			wait = 10 * time.Millisecond
		}
		cancel()
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
	}
}

// tell delivers events; a board's batch and head are delivered together.
func (g *group) tell(events []*clientv3.Event, to listener) {
	heads, batches := g.keys.heads(), g.keys.batches("")
	batches = batches[:len(batches)-1] // without the slash after a name
	type at struct {
		board string
		rev   int64
	}
	with := map[at]*head{}
	lines := map[at]bool{}
	for _, e := range events {
		key := string(e.Kv.Key)
		if board, ok := strings.CutPrefix(key, heads); ok && e.Type == mvccpb.PUT {
			if h, err := readHead(key, e.Kv.Value); err == nil {
				with[at{board, e.Kv.ModRevision}] = &h
			}
		} else if board, ok := boardIn(key, batches); ok && e.Type == mvccpb.PUT {
			lines[at{board, e.Kv.ModRevision}] = true
		}
	}
	for _, e := range events {
		key, rev := string(e.Kv.Key), e.Kv.ModRevision
		if board, ok := strings.CutPrefix(key, g.keys.groups()); ok {
			to.assigned(board, string(e.Kv.Value), e.Type == mvccpb.PUT)
			continue
		}
		if board, ok := strings.CutPrefix(key, heads); ok {
			switch one := (at{board, rev}); {
			case e.Type == mvccpb.DELETE:
				to.removed(board)
			case with[one] == nil:
				to.missed(g) // it can't be read, and the reader will report that
			default:
				if e.IsCreate() {
					to.made(board)
				}
				if !lines[one] {
					to.wrote(board, batch{rev: rev, head: with[one]})
				}
			}
			continue
		}
		board, ok := boardIn(key, batches)
		if !ok || e.Type != mvccpb.PUT {
			continue
		}
		b, err := readBatch(key, e.Kv.Value)
		if err != nil {
			to.missed(g)
			continue
		}
		b.rev, b.head = rev, with[at{board, rev}]
		to.wrote(board, b)
	}
}

// boardIn returns the board of a batch's key.
func boardIn(key, under string) (string, bool) {
	rest, ok := strings.CutPrefix(key, under)
	if !ok {
		return "", false
	}
	i := strings.LastIndexByte(rest, '/')
	if i < 0 {
		return "", false
	}
	return rest[:i], true
}
