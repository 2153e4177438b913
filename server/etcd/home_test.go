package etcd

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A board is written to by its home, and from anywhere where that does not answer.
func TestHome(t *testing.T) {
	t.Parallel()
	three := serve(t, 3, true, Options{})
	newBoard(three[0])
	three[0].do(201, "PUT", tank, "0")
	var home *site
	for _, s := range three {
		if s.peers.Home("rowan-street") == "" {
			require.Nil(t, home, "one is")
			home = s
		}
	}
	require.NotNil(t, home)
	homes := map[string]bool{}
	for i := range 300 {
		at := three[0].peers.at(fmt.Sprint("board-", i))
		homes[at] = true
		assert.Equal(t, three[1].peers.at(fmt.Sprint("board-", i)), at, "all agree")
	}
	assert.Len(t, homes, 3)
	var away []*site
	for _, s := range three {
		if s != home {
			away = append(away, s)
		}
	}
	passed := func() float64 { return away[0].peers.passed.get() + away[1].peers.passed.get() }
	before := passed()
	for i := range 20 {
		s := away[i%2]
		one := s.do(200, "POST", tank, `{"op":"add","amount":1}`, "Client-Name", "tankwatch")
		assert.Equal(t, float64(i+1), one.json["value"])
		assert.Equal(t, "admin (tankwatch)", one.json["by"])
	}
	assert.Equal(t, 20., passed()-before)
	assert.Zero(t, home.store.g.behind.Load(), "no writes conflicted")
	assert.Contains(t, home.do(200, "GET", "/metrics", "").body, "smallpantry_etcd_boards_home 1\n")
	// What a client says of itself counts for nothing.
	assert.Equal(t, 200, away[0].as(away[0].admin, "POST", tank, `{"op":"add","amount":1}`, headerHop, "guess", headerFrom, "10.0.0.1:1").status)
	assert.Equal(t, 21., passed()-before, "it is passed on as any")
	assert.Equal(t, 401, away[0].as("wrong.token", "POST", tank, `{"op":"add","amount":1}`).status, "and not before it may")
	assert.Equal(t, 413, away[0].as(away[0].admin, "PUT", tank, `"`+strings.Repeat("x", 2<<20)+`"`).status)

	assert.Equal(t, 3., away[0].do(200, "GET", street, "").json["servers"])

	home.stop()
	for i := range 10 {
		assert.Equal(t, float64(i+22), away[i%2].do(200, "POST", tank, `{"op":"add","amount":1}`).json["value"], "no caller waits for the dead server")
	}
}

// Addresses that differ in little share the shards evenly, and a fourth server takes its part from all.
func TestHomesAreSpread(t *testing.T) {
	t.Parallel()
	const sets = 200
	homes, moved := [3]int{}, 0
	for set := range sets {
		at := func(i int) string { return fmt.Sprintf("http://127.0.0.1:%d", 32000+4*set+i) }
		three := &Peers{servers: map[string]string{"a": at(0), "b": at(1), "c": at(2)}}
		four := &Peers{servers: map[string]string{"a": at(0), "b": at(1), "c": at(2), "d": at(3)}}
		for shard := range shards {
			before, after := three.homeOf(shard, nil), four.homeOf(shard, nil)
			for i := range homes {
				if at(i) == before {
					homes[i]++
				}
			}
			if after != before {
				require.Equal(t, at(3), after)
				moved++
			}
		}
	}
	for _, n := range homes {
		assert.InEpsilon(t, sets*shards/3, n, 0.05)
	}
	assert.InEpsilon(t, sets*shards/4, moved, 0.05)
}

// at is the home of a board by its address, also where that is this server.
func (p *Peers) at(board string) string {
	if home := p.Home(board); home != "" {
		return home
	}
	return p.self
}

// A home that accepts requests and does not answer is skipped for writes with a key. Other writes are
// answered uncertain.
func TestSilentHome(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var told []string
	s := serve(t, 1, true, Options{Problem: func(_ string, err error) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, err.Error())
	}})[0]
	release := make(chan struct{})
	silent := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-release:
		}
	}))
	newBoard(s)
	s.do(201, "PUT", tank, "0")
	p := s.peers
	p.stop() // from now on only this test says which servers there are
	<-p.done
	p.within, p.longer = 200*time.Millisecond, 300*time.Millisecond
	be := func(home string) {
		p.mu.Lock()
		p.shunned = map[string]*shunned{}
		p.mu.Unlock()
		p.set(map[string]string{"x": home})
	}
	be(silent.URL)
	one := s.do(200, "POST", tank, `{"op":"add","amount":1}`, "Idempotency-Key", "k")
	assert.Equal(t, 1., one.json["value"])
	assert.Empty(t, p.Home("rowan-street"), "and is not asked again for now")
	p.shun(silent.URL, io.EOF)
	p.mu.Lock()
	assert.Equal(t, 2*firstShun, p.shunned[silent.URL].pause, "and later with each failure")
	p.shunned[silent.URL].until = time.Time{}
	p.mu.Unlock()
	assert.Equal(t, silent.URL, p.Home("rowan-street"), "one call asks again")
	assert.Empty(t, p.Home("rowan-street"), "and only one")
	p.answers(silent.URL)
	assert.Equal(t, silent.URL, p.Home("rowan-street"))
	mu.Lock()
	require.Len(t, told, 2, "both changes are reported, once")
	assert.Contains(t, told[0], silent.URL+", which writes boards, can't be reached from here")
	assert.Contains(t, told[1], silent.URL+" answers again")
	mu.Unlock()
	be(silent.URL)
	unsure := s.as(s.admin, "POST", tank, `{"op":"add","amount":1}`)
	assert.Equal(t, []any{500, "uncertain"}, []any{unsure.status, unsure.json["code"]})
	close(release)
	silent.Close()
	be(silent.URL)
	assert.Equal(t, 2., s.do(200, "POST", tank, `{"op":"add","amount":1}`).json["value"], "nothing was sent, so that it is done here")
}

// A server whose feed is cut off asks etcd before it accepts a token, so that one that was revoked on
// another server opens nothing.
func TestRevokedWhileTheFeedIsCutOff(t *testing.T) {
	t.Parallel()
	both := serve(t, 2, false, Options{})
	a, b := both[0], both[1]
	newBoard(a)
	a.do(201, "PUT", tank, "420")
	made := a.do(201, "POST", street+"/tokens", `{"may":"read","label":"shed"}`).json
	token := made["token"].(string)
	require.Equal(t, 200, b.as(token, "GET", tank, "").status)
	b.store.stop() // the feed ends, and etcd still answers
	require.Eventually(t, func() bool { return !b.store.Near() }, hang.Patience, 10*time.Millisecond)
	require.Equal(t, 200, b.as(token, "GET", tank, "").status)
	a.do(204, "DELETE", street+"/tokens/"+made["id"].(string), "")
	assert.Equal(t, 401, b.as(token, "GET", tank, "").status)
}
