package etcd

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/test/soak"
)

// Servers that all write to one board for two seconds each get on: no commit is refused because others
// were always faster.
func TestContention(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	var all sync.WaitGroup
	var done [3]atomic.Int64
	begun := time.Now()
	for i := range 3 {
		l := hold(t, open(t, prefix, Options{}))
		for range 20 {
			all.Go(func() {
				for {
					_, err := rules.Commit(l, rules.Call{Edits: add("n", 1)})
					if !assert.NoError(t, err) {
						return
					}
					done[i].Add(1)
					if time.Since(begun) > 2*time.Second {
						return
					}
				}
			})
		}
	}
	all.Wait()
	t.Log(done[0].Load(), done[1].Load(), done[2].Load(), time.Since(begun))
	_, n := count(hold(t, open(t, prefix, Options{})))
	assert.Equal(t, done[0].Load()+done[1].Load()+done[2].Load(), n)
}

// A board that one server makes while another removes the earlier one of its name stays, with what was
// written to it and its tokens. A board whose removal was answered is made, not found.
func TestMadeWhileItIsRemoved(t *testing.T) {
	t.Parallel()
	both := serve(t, 2, false, Options{})
	remover, maker := both[0], both[1]
	for round := range soak.Rounds(12, 300) {
		newBoard(remover)
		remover.do(201, "PUT", tank, "1")
		if round%2 == 0 {
			maker.do(200, "GET", tank, "") // it has the earlier board open
		}
		var wait sync.WaitGroup
		wait.Go(func() {
			time.Sleep(time.Duration(round%5) * time.Millisecond) // to begin at different moments
			remover.do(204, "DELETE", street, "")
		})
		var token string
		wait.Go(func() {
			for maker.as(adminToken, "POST", "/v1/boards", `{"board":"rowan-street"}`).status != 201 {
			}
			maker.do(201, "PUT", street+"/entries/hose/queue", `["C4"]`)
			token = maker.do(201, "POST", street+"/tokens", `{"may":"read"}`).json["token"].(string)
		})
		wait.Wait()
		for _, s := range both {
			require.Equal(t, 200, s.as(token, "GET", street+"/entries/hose/queue", "").status, "round %d", round)
			s.do(404, "GET", tank, "")
		}
		both[round%2].do(204, "DELETE", street, "")
		both[(round+1)%2].do(201, "POST", "/v1/boards", `{"board":"rowan-street"}`)
		both[(round+1)%2].do(204, "DELETE", street, "")
	}
}
