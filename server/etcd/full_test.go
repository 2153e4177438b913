package etcd

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// smallNode is an etcd that is full after 4 MiB. more starts it again with room, after a while.
func smallNode(t *testing.T) (endpoints []string, more func(while time.Duration)) {
	t.Helper()
	members, err := node.Plan(t.TempDir(), 1)
	require.NoError(t, err)
	members[0].NoSync = true
	var n *node.Node
	start := func(quota int64) {
		members[0].Quota = quota
		n, err = node.Start(members[0], members)
		require.NoError(t, err)
		require.NoError(t, n.Ready(20*time.Second))
	}
	start(4 << 20)
	t.Cleanup(func() { n.Close() })
	return node.Endpoints(members), func(while time.Duration) {
		n.Close()
		time.Sleep(while) // of a real process, whose clients notice
		start(64 << 20)
	}
}

// The limit of boards holds for all servers. A board that is removed makes room for another, on any of them.
func TestLimitOfBoards(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	a, b := open(t, prefix, Options{Boards: 2}), open(t, prefix, Options{Boards: 2})
	make := func(s *Store, board string) error {
		_, release, err := s.Board(t.Context(), board, true)
		if err == nil {
			release()
		}
		return err
	}
	require.NoError(t, make(a, "one"))
	require.NoError(t, make(b, "two"))
	for _, s := range []*Store{a, b} {
		require.ErrorIs(t, make(s, "three"), rules.ErrQuota)
		require.NoError(t, make(s, "one"), "which there is")
	}
	require.NoError(t, a.Remove(t.Context(), "one", ""))
	require.NoError(t, make(b, "three"))
	require.ErrorIs(t, make(a, "four"), rules.ErrQuota)
}

// While etcd is full, a link is revoked by deleting: it opens nothing any more, on any server, also on one that
// starts later. When there is space again, new links can be made.
func TestRevokeWhileFull(t *testing.T) {
	t.Parallel()
	endpoints, more := smallNode(t)
	o := Options{Endpoints: endpoints, Prefix: newPrefix()}
	two := serve(t, 2, false, o)
	a, b := two[0], two[1]
	newBoard(a)
	made := a.do(201, "POST", street+"/tokens", `{"may":"write","label":"shed"}`).json
	token, kept := made["token"].(string), a.do(201, "POST", street+"/tokens", `{"may":"read"}`).json["token"].(string)
	big := strings.Repeat("x", 1<<19)
	full := a.as(token, "PUT", tank, "1")
	for i := 0; (full.status < 300 || full.json["code"] == "uncertain") && i < 50; i++ { // a slow etcd does not always answer
		full = a.as(token, "PUT", street+"/entries/big", fmt.Sprintf("%q", big+fmt.Sprint(i)))
	}
	require.Equal(t, 503, full.status, full.body)
	assert.Contains(t, full.body, "no space left")
	assert.Contains(t, a.do(200, "GET", "/readyz", "").json["warning"], "no space left")
	require.Equal(t, 503, a.as(a.admin, "POST", street+"/tokens", `{"may":"read"}`).status)

	require.Equal(t, 200, b.as(token, "GET", tank, "").status)
	a.do(204, "DELETE", street+"/tokens/"+made["id"].(string), "")
	assert.Equal(t, 401, a.as(token, "GET", tank, "").status)
	require.Eventually(t, func() bool { return b.as(token, "GET", tank, "").status == 401 }, hang.Patience, time.Millisecond)
	c := serve(t, 1, false, o)[0]
	for _, s := range []*site{a, b, c} {
		assert.Equal(t, 401, s.as(token, "GET", tank, "").status)
		assert.Equal(t, 200, s.as(kept, "GET", tank, "").status)
		assert.NotContains(t, s.do(200, "GET", street+"/tokens", "").body, made["id"].(string))
		assert.Equal(t, 404, s.as(s.admin, "DELETE", street+"/tokens/"+made["id"].(string), "").status)
	}

	// In files it is gone, too.
	stop(c, b, a)
	operator, err := Open(t.Context(), o)
	require.NoError(t, err)
	back := t.TempDir()
	require.NoError(t, operator.Export(t.Context(), back, func(Moved) {}))
	require.NoError(t, operator.Close())
	require.NoError(t, os.WriteFile(filepath.Join(back, "admin-token"), []byte(adminToken+"\n"), 0o600))
	onFiles := serveFiles(t, back)
	assert.Equal(t, 401, onFiles.as(token, "GET", tank, "").status)
	assert.Equal(t, 200, onFiles.as(kept, "GET", tank, "").status)

	more(0)
	a = serve(t, 1, false, o)[0]
	c = serve(t, 1, false, o)[0]
	_, err = a.store.g.c.AlarmDisarm(t.Context(), &clientv3.AlarmMember{})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return a.as(a.admin, "POST", street+"/tokens", `{"may":"read"}`).status == 201 }, hang.Patience, 50*time.Millisecond)
	assert.False(t, a.store.tokens.Node("rowan-street/"+made["id"].(string)).Record().Found(), "now it is dropped")
	assert.Equal(t, 401, c.as(token, "GET", tank, "").status)
}

// fillUp writes to a board until it is refused. On a slow machine a commit before that can be uncertain.
func fillUp(l *ledger.Ledger) (err error) {
	big := strings.Repeat("x", 1<<19)
	for i := 0; (err == nil || errors.Is(err, ledger.ErrUncertain)) && i < 100; i++ {
		_, err = rules.Commit(l, rules.Call{Edits: text("big", big+fmt.Sprint(i))})
	}
	return err
}

// A store that is full refuses and says so; when there is room again, it takes writes.
func TestQuota(t *testing.T) {
	t.Parallel()
	endpoints, more := smallNode(t)
	var mu sync.Mutex
	var told []string
	s, err := Open(t.Context(), Options{Endpoints: endpoints, Problem: func(board string, err error) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, board+" "+err.Error())
	}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	require.NoError(t, s.AdminHash(t.Context(), adminToken, false))
	l := hold(t, s)
	_, release, err := s.Board(t.Context(), "elm-street", true)
	require.NoError(t, err)
	release()
	err = fillUp(l)
	require.ErrorIs(t, err, ledger.ErrNotStored)
	assert.ErrorIs(t, err, wire.ErrNoSpace)
	assert.NotErrorIs(t, err, ledger.ErrUncertain)
	assert.ErrorIs(t, s.State(), wire.ErrNoSpace)
	assert.NoError(t, s.Ready(t.Context()), "it can be read")
	require.NoError(t, l.Current(t.Context()), "what is there can be read")
	version := l.Version()
	_, err = rules.Commit(l, rules.Call{Edits: text("big", "small")})
	require.ErrorIs(t, err, ledger.ErrNotStored)
	assert.Equal(t, version, l.Version())
	// A server starts on it all the same.
	second, err := Open(t.Context(), Options{Endpoints: endpoints})
	require.NoError(t, err)
	require.NoError(t, second.AdminHash(t.Context(), adminToken, false))
	require.ErrorIs(t, second.AdminHash(t.Context(), "another", false), ErrOtherAdmin)
	l2, release, err := second.Board(t.Context(), "rowan-street", false)
	require.NoError(t, err)
	assert.Equal(t, version, l2.Version())
	release()
	require.NoError(t, second.Close())
	// A board can be removed, which makes room.
	other, release, err := s.Board(t.Context(), "elm-street", false)
	require.NoError(t, err)
	release()
	require.NoError(t, s.Remove(t.Context(), "elm-street", other.Life()))
	_, _, err = s.Board(t.Context(), "elm-street", false)
	require.ErrorIs(t, err, store.ErrNoBoard)
	// What docs/machines.md has the operator do.
	more(0)
	_, err = s.g.c.AlarmDisarm(t.Context(), &clientv3.AlarmMember{})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		_, err = rules.Commit(l, rules.Call{Edits: text("big", "small")})
		return err == nil || !errors.Is(err, ledger.ErrNotStored)
	}, hang.Patience, 50*time.Millisecond)
	require.NoError(t, err)
	assert.NoError(t, s.State())
	mu.Lock()
	defer mu.Unlock()
	assert.Contains(t, told, " etcd: no space left")
	assert.Equal(t, " etcd: all works again", told[len(told)-1])
	assert.Less(t, len(told), 8, "each change is reported once")
}

// A server stays registered when the nodes of a full etcd start again, although it accepts no new registration.
func TestRegistrationsOutliveNodes(t *testing.T) {
	t.Parallel()
	const alive = 12 // seconds: more than a busy machine lets a server wait for a processor
	endpoints, more := smallNode(t)
	s, err := Open(t.Context(), Options{Endpoints: endpoints})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	p := s.Join(PeerOptions{Address: "http://127.0.0.1:8437", Secret: "secret", alive: alive})
	t.Cleanup(p.Leave)
	registered := func() bool {
		resp, err := s.g.c.Get(t.Context(), s.g.keys.servers(), clientv3.WithPrefix())
		return err == nil && len(resp.Kvs) == 1
	}
	require.Eventually(t, registered, hang.Patience, 10*time.Millisecond)
	l := hold(t, s)
	require.ErrorIs(t, fillUp(l), wire.ErrNoSpace)
	more((alive + 2) * time.Second) // it has room, and refuses writes until the alarm is disarmed
	_, err = s.g.c.Grant(t.Context(), alive)
	require.Error(t, err, "it accepts a new registration")
	for end := time.Now().Add((alive + 3) * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) { // a lease without a holder would end
		_ = registered()
	}
	require.Eventually(t, registered, hang.Patience, 10*time.Millisecond)
	_, err = s.g.c.Grant(t.Context(), alive)
	require.Error(t, err)
}
