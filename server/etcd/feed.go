package etcd

import (
	"context"
	"encoding/json"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// askAlive is the interval at which a quiet feed is checked.
const askAlive = 300 * time.Millisecond

// A listener receives the events of a feed. A head and the batch of the same commit come in any order.
type listener interface {
	wrote(life string, b batch)
	headed(board string, h head, rev int64)
	removed(board string)
	recorded(made bool, rev int64) // a group record was created or deleted
	void(token string)
	missed(g *group, in span) // events of a span can be missing
}

// A span is a range of keys.
type span struct {
	from, to string // to is the first key after it
	prefix   bool   // instead of to: all keys that begin with from
}

func (s span) end() string {
	if s.prefix {
		return clientv3.GetPrefixRangeEnd(s.from)
	}
	return s.to
}

func (s span) has(key string) bool { return key >= s.from && key < s.end() }

// A feed delivers what is written to a group. It watches whole shards, and the boards that are open here of
// other shards, so that its cost does not follow the others' boards. It is safe for concurrent use.
type feed struct {
	g   *group
	to  listener
	ctx context.Context
	all sync.WaitGroup

	mu      sync.Mutex // guards the following fields
	shards  [shards]bool
	open    map[[2]string]bool // board and life
	watches map[span]context.CancelFunc
	ended   bool // no watch begins any more
}

func newFeed(ctx context.Context, g *group, to listener) *feed {
	return &feed{
		g: g, to: to, ctx: clientv3.WithRequireLeader(ctx), // nodes that know no leader don't deliver anything
		open: map[[2]string]bool{}, watches: map[span]context.CancelFunc{},
	}
}

func allShards() (all [shards]bool) {
	for i := range all {
		all[i] = true
	}
	return all
}

// own sets the shards that are watched whole.
func (f *feed) own(these [shards]bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.shards = these
	f.arrange()
}

// watch watches a board that is open here.
func (f *feed) watch(board, life string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.open[[2]string{board, life}] = true
	if !f.shards[shardOf(board)] {
		for _, s := range f.spansOf(board, life) {
			f.begin(s)
		}
	}
}

// unwatch ends watch.
func (f *feed) unwatch(board, life string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.open, [2]string{board, life})
	if !f.shards[shardOf(board)] {
		for _, s := range f.spansOf(board, life) {
			f.end(s)
		}
	}
}

// spansOf returns the keys of a board.
func (f *feed) spansOf(board, life string) []span {
	head := f.g.keys.head(board)
	return []span{{from: head, to: head + "\x00"}, {from: f.g.keys.of(board, life).batches, prefix: true}}
}

// arrange begins and ends watches, so that they are those of the shards and of the open boards of others. mu
// must be held.
func (f *feed) arrange() {
	want := map[span]bool{{from: f.g.keys.store()}: true} // for the beat, and for a later format
	if f.g.name == "" {
		want[span{from: f.g.keys.groups(), prefix: true}] = true
		want[span{from: f.g.keys.tokens(), prefix: true}] = true
	}
	for first := 0; first < shards; first++ { // neighbours share a watch
		last := first
		for last < shards && f.shards[last] {
			last++
		}
		if last > first {
			for _, kind := range []byte{'h', 'l'} {
				want[span{from: f.g.keys.shard(kind, first), to: clientv3.GetPrefixRangeEnd(f.g.keys.shard(kind, last-1))}] = true
			}
			first = last
		}
	}
	for one := range f.open {
		if !f.shards[shardOf(one[0])] {
			for _, s := range f.spansOf(one[0], one[1]) {
				want[s] = true
			}
		}
	}
	for s := range want {
		f.begin(s)
	}
	for s := range f.watches {
		if !want[s] {
			f.end(s)
		}
	}
}

// begin watches a span, whose boards then read what they have missed. mu must be held.
func (f *feed) begin(s span) {
	if f.watches[s] == nil && !f.ended {
		ctx, cancel := context.WithCancel(f.ctx)
		f.watches[s] = cancel
		f.all.Go(func() { f.follow(ctx, s) })
	}
}

// end ends the watch of a span. mu must be held.
func (f *feed) end(s span) {
	if cancel := f.watches[s]; cancel != nil {
		cancel()
		delete(f.watches, s)
	}
}

// wait waits until the feed's context has ended, and all watches with it.
func (f *feed) wait() {
	<-f.ctx.Done()
	f.mu.Lock()
	f.ended = true
	f.mu.Unlock()
	f.all.Wait()
}

// beat asks etcd for signs of life, until the feed ends. They come only if all watches are up to date.
func (f *feed) beat() {
	tick := time.NewTicker(askAlive)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			_ = f.g.c.RequestProgress(f.ctx)
			if !f.g.near() { // find out why
				one, cancel := context.WithTimeout(f.ctx, attempt)
				_, _, _ = f.g.fence(one, "")
				cancel()
			}
		case <-f.ctx.Done():
			return
		}
	}
}

// follow delivers what is written in a span from now on, until ctx ends. If it is interrupted for good, it
// begins again.
func (f *feed) follow(ctx context.Context, in span) {
	opts := []clientv3.OpOption{clientv3.WithProgressNotify(), clientv3.WithCreatedNotify()}
	if in.end() != "" {
		opts = append(opts, clientv3.WithRange(in.end()))
	}
	beats := in.from == f.g.keys.store()
	for wait := 10 * time.Millisecond; ctx.Err() == nil; wait = min(2*wait, 500*time.Millisecond) {
		one, cancel := context.WithCancel(ctx)
		for resp := range f.g.c.Watch(one, in.from, opts...) {
			if resp.CompactRevision > 0 || resp.Err() != nil {
				break
			}
			if beats && (resp.Created || resp.IsProgressNotify()) {
				f.g.hear()
			}
			if resp.Created { // what was written before is not delivered
				f.to.missed(f.g, in)
				if beats {
					f.format()
				}
			}
			f.deliver(resp.Events)
			wait = 10 * time.Millisecond
		}
		cancel()
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
	}
}

// format reads the format of the store.
func (f *feed) format() {
	ctx, cancel := context.WithTimeout(f.ctx, patience)
	defer cancel()
	resp, err := f.g.get(ctx, f.g.keys.store())
	for i := 0; err == nil && i < len(resp.Kvs); i++ {
		f.g.formatOf(resp.Kvs[i].Value)
	}
}

// formatOf stops all use of a store that a later program has changed.
func (g *group) formatOf(mark []byte) {
	var m storeMark
	if json.Unmarshal(mark, &m) == nil && m.Format > format {
		g.newer.Store(true)
	}
}

// deliver delivers events.
func (f *feed) deliver(events []*clientv3.Event) {
	groups := f.g.keys.groups()
	for _, e := range events {
		key, rev := string(e.Kv.Key), e.Kv.ModRevision
		if key == f.g.keys.store() {
			f.g.formatOf(e.Kv.Value)
			continue
		}
		if strings.HasPrefix(key, groups) {
			if e.IsCreate() || e.Type == mvccpb.DELETE {
				f.to.recorded(e.IsCreate(), rev)
			}
			continue
		}
		if name, ok := strings.CutPrefix(key, f.g.keys.tokens()); ok {
			if e.Type == mvccpb.DELETE {
				f.to.void(name)
			}
			continue
		}
		if board, ok := f.g.keys.boardOf(key); ok {
			h, err := readHead(key, e.Kv.Value)
			switch {
			case e.Type == mvccpb.DELETE, err == nil && h.Gone != "":
				f.to.removed(board)
			case err != nil: // the reader will report that
				f.to.missed(f.g, span{from: key, to: key + "\x00"})
			default:
				f.to.headed(board, h, rev)
			}
			continue
		}
		life, ok := f.g.keys.lifeIn(key)
		if !ok || e.Type != mvccpb.PUT {
			continue
		}
		b, err := readBatch(key, e.Kv.Value)
		if err != nil {
			f.to.missed(f.g, span{from: key[:strings.LastIndexByte(key, '/')+1], prefix: true})
			continue
		}
		b.rev = rev
		f.to.wrote(life, b)
	}
}
