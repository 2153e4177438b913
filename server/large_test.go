package server_test

import (
	"fmt"
	"net"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What readers leave unread of a large entry counts against their link's share, so that another link gets
// the entry, and is released when they take too long.
func TestLargeAnswersCount(t *testing.T) {
	t.Parallel()
	const entries = "/v1/boards/rowan-street/entries"
	for what, path := range map[string]string{"an entry": entries + "/large", "a list": entries, "a list of changes": entries + "?since=", "a waiting list": entries + "?wait=5&since="} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) { largeAnswersCount(t, path) })
		})
	}
}

// A change of some length on a large board ends none of many streams of one link: each holds what the change takes.
func TestStreamsOfALargeBoard(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{Limits: server.Limits{WriteRate: 1 << 30}})
		s.make("rowan-street")
		for i := range 6 {
			require.Equal(t, 201, s.as(s.admin, "PUT", fmt.Sprintf("/v1/boards/rowan-street/entries/notices/%d", i), large, "Content-Type", "text/plain").status)
		}
		class, _ := s.invite(s.admin, "rowan-street", `{"may":"read"}`)
		mark := s.as(s.admin, "GET", "/v1/boards/rowan-street/entries?limit=1", "").json["mark"].(string)
		var slow []net.Conn
		for range 20 {
			slow = append(slow, s.raw(class, "GET", "/v1/boards/rowan-street/events?since="+mark, 0, ""))
		}
		synctest.Wait()
		require.Equal(t, "20", s.streams())
		require.Equal(t, 201, s.as(s.admin, "PUT", "/v1/boards/rowan-street/entries/plan", strings.Repeat("peas ", 8<<10), "Content-Type", "text/plain").status)
		time.Sleep(time.Second)
		synctest.Wait()
		assert.Equal(t, "20", s.streams(), "they wait for their readers")
		for _, conn := range slow {
			conn.Close()
		}
		s.stop()
	})
}

// Calls that wait for changes of many names hold up no other such call.
func TestWaitingTakesNoTurn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{})
		s.make("rowan-street")
		list := "/v1/boards/rowan-street/entries?" + many(25, func(i int) string { return fmt.Sprintf("name=bed/%d/crop", i) }, "&")
		wait := list + "&wait=50&since=" + s.as(s.admin, "GET", list, "").json["mark"].(string)
		var calls sync.WaitGroup
		for range runtime.GOMAXPROCS(0) {
			calls.Go(func() { s.as(s.admin, "GET", wait, "") })
		}
		synctest.Wait()
		begin := time.Now()
		assert.Equal(t, 200, s.as(s.admin, "GET", list, "").status)
		assert.Less(t, time.Since(begin), time.Second)
		calls.Wait()
	})
}

// holds returns how many bytes of a resource the server's requests hold.
func (s *shared) holds(resource string) string {
	s.t.Helper()
	return regexp.MustCompile(`smallpantry_held_bytes\{resource="` + resource + `"\} (\S+)`).FindStringSubmatch(s.as(s.admin, "GET", "/metrics", "").body)[1]
}

// A small body counts until its call has been answered.
func TestSmallBodiesCount(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{})
		s.make("rowan-street")
		const at, op = "/v1/boards/rowan-street/entries/list", `{"op":"append","item":"x"}`
		require.Equal(t, 201, s.as(s.admin, "PUT", at, `["`+large+`"]`).status)
		slow := s.raw(s.admin, "POST", at, len(op), op) // and the answer, with the list, is not read
		synctest.Wait()
		assert.Equal(t, strconv.Itoa(len(op)), s.holds("small-bodies"))
		slow.Close()
		synctest.Wait()
		assert.Equal(t, "0", s.holds("small-bodies"))
		s.stop()
	})
}

func largeAnswersCount(t *testing.T, path string) {
	s := sharedInMemory(t, server.Options{})
	s.make("rowan-street")
	const at = "/v1/boards/rowan-street/entries/large"
	if strings.HasSuffix(path, "since=") {
		path += s.as(s.admin, "GET", "/v1/boards/rowan-street/entries", "").json["mark"].(string)
	}
	require.Equal(t, 201, s.as(s.admin, "PUT", at, large, "Content-Type", "text/plain").status)
	greedy, _ := s.invite(s.admin, "rowan-street", `{"may":"read"}`)
	phone, _ := s.invite(s.admin, "rowan-street", `{"may":"add"}`)
	held := func() string { return s.holds("answers") }
	var slow []net.Conn
	for range 7 {
		slow = append(slow, s.raw(greedy, "GET", path, 0, ""))
	}
	synctest.Wait()
	assert.NotEqual(t, "0", held())
	slow = append(slow, s.raw(greedy, "GET", path, 0, ""))
	synctest.Wait()
	refused := s.as(greedy, "GET", path, "")
	assert.Equal(t, 503, refused.status)
	assert.NotEmpty(t, refused.header.Get("Retry-After"))
	assert.Equal(t, 200, s.as(greedy, "GET", "/v1/boards/rowan-street", "").status, "a small call of the same link")
	assert.Equal(t, 503, s.as(phone, "POST", at, `{"op":"append","item":"x"}`).status, "the board's share is used up, and nothing is done")
	time.Sleep(time.Minute) // each reader had ten seconds for a chunk
	synctest.Wait()
	assert.Equal(t, "0", held())
	assert.Equal(t, 200, s.as(phone, "GET", at, "").status)
	for _, conn := range slow {
		conn.Close()
	}
	s.stop()
}

// large is the text of a large value.
var large = strings.Repeat("x", 1<<20-300)

// Large bodies arrive at a bounded rate, so that reading them leaves time for other requests. Small ones do not wait.
func TestLargeBodiesArriveSlowly(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{Limits: server.Limits{WriteRate: 1 << 30}})
		s.make("rowan-street")
		put := func(n int, value string) time.Duration {
			begin := time.Now()
			for range n {
				a := s.as(s.admin, "PUT", "/v1/boards/rowan-street/entries/notice", strconv.Quote(value))
				require.Less(t, a.status, 300, a.body)
			}
			return time.Since(begin)
		}
		small := put(100, "the hose leaks")
		first := put(2, large)
		more := put(16, large)
		atLeast := (16 - 4) * time.Second * (1 << 20) / time.Duration(100_000_000*max(1, runtime.GOMAXPROCS(0)/2))
		assert.Greater(t, more, atLeast*8/10)
		assert.Less(t, first, atLeast/10, "a few do not wait")
		assert.Less(t, small, atLeast/10)
	})
}

// A body that is discarded, because too much was written to the board, arrives as slowly as others.
func TestDiscardedBodiesArriveSlowly(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{Limits: server.Limits{WriteRate: 1 << 10}})
		s.make("rowan-street")
		begin, refused := time.Now(), 0
		for range 24 {
			if s.as(s.admin, "PUT", "/v1/boards/rowan-street/entries/notice", strconv.Quote(large)).status == 429 {
				refused++
			}
		}
		assert.Greater(t, refused, 20)
		assert.Greater(t, time.Since(begin), 8*time.Second*(20<<20)/time.Duration(1_000_000_000*max(1, runtime.GOMAXPROCS(0)/2)))
	})
}

// Callers that find no room are refused at a bounded rate, and each within a second.
func TestRefusalsAreSlow(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{Limits: server.Limits{Streams: 1}})
		s.make("rowan-street")
		poll := "/v1/boards/rowan-street/entries?wait=50&since=" + s.as(s.admin, "GET", "/v1/boards/rowan-street/entries", "").json["mark"].(string)
		var calls sync.WaitGroup
		calls.Go(func() { s.as(s.admin, "GET", poll, "") })
		synctest.Wait()
		refused := func() (took time.Duration) {
			begin := time.Now()
			assert.Equal(t, 503, s.as(s.admin, "GET", poll, "").status)
			return time.Since(begin)
		}
		begin := time.Now()
		for range 500 {
			refused()
		}
		assert.InDelta(t, 2, time.Since(begin).Seconds(), 0.1, "100 at once, then 200 a second")
		for range 1000 {
			calls.Go(func() { assert.LessOrEqual(t, refused(), 1100*time.Millisecond) })
		}
		time.Sleep(10 * time.Millisecond)
		begin = time.Now()
		s.as(s.admin, "PUT", "/v1/boards/rowan-street/entries/gate", "true")
		assert.Less(t, time.Since(begin), 10*time.Millisecond, "others do not wait")
		calls.Wait()
	})
}
