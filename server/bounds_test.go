package server_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
)

// ordinary asks as an ordinary phone does, beside other work, and returns the time of the slowest answer.
func (s *shared) ordinary(token string, asks int) (slowest time.Duration) {
	s.t.Helper()
	for n := range asks {
		from := time.Now()
		a := s.as(token, "POST", "/v1/boards/quiet/entries/sum", `{"op":"add","amount":1}`)
		assert.True(s.t, a.status == 200 || a.status == 201, a.body)
		a = s.as(token, "GET", "/v1/boards/quiet/entries", "")
		assert.Equal(s.t, 200, a.status, "%d: %s", n, a.body)
		slowest = max(slowest, time.Since(from))
	}
	return slowest
}

// raw opens a connection, and sends the head of a request and what of its body is given.
func (s *shared) raw(token, method, path string, length int, body string) net.Conn {
	s.t.Helper()
	conn := dial(s.t, s.base)
	_, err := fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", method, path, token, length, body)
	require.NoError(s.t, err)
	return conn
}

func status(t testing.TB, conn net.Conn) (int, http.Header) {
	t.Helper()
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	_, _ = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode, resp.Header
}

func heapInUse() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// A client that asks too often gets Retry-After. Others notice nothing.
func TestPace(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testPace)
}

func testPace(t *testing.T) {
	s := sharedInMemory(t, server.Options{Limits: server.Limits{ClientRate: 5, AddressRate: 1000, BoardRate: 40}})
	s.make("quiet")
	s.make("busy")
	own, _ := s.invite(s.admin, "busy", `{"may":"own"}`)
	refused := 0
	for range 30 {
		if a := s.as(own, "GET", "/v1/boards/busy", "", "Client-Instance", "one"); a.status != 200 {
			refused++
			assert.Equal(t, []any{429, "rate-limited", "1"}, []any{a.status, a.code(), a.header.Get("Retry-After")})
		}
	}
	assert.Equal(t, 20, refused, "a burst of ten passes")
	time.Sleep(time.Second)
	for n := range 6 {
		a := s.as(own, "GET", "/v1/boards/busy", "", "Client-Instance", "one")
		assert.Equal(t, n < 5, a.status == 200, "five a second: request %d", n+1)
	}
	assert.Equal(t, 200, s.as(own, "GET", "/v1/boards/busy", "", "Client-Instance", "two").status)
	refused = 0
	for n := range 120 { // a class shares a link, and a board has its bound
		if a := s.as(own, "GET", "/v1/boards/busy", "", "Client-Instance", fmt.Sprint("phone", n)); a.status == 429 {
			refused++
			assert.Contains(t, a.body, "this board")
		}
	}
	assert.Greater(t, refused, 20)
	assert.Equal(t, 200, s.as(s.admin, "GET", "/v1/boards/quiet", "", "Client-Instance", "three").status, "another board goes on")
	s = sharedInMemory(t, server.Options{Limits: server.Limits{ClientRate: 1000, AddressRate: 10, BoardRate: 1000}})
	s.make("b")
	refused = 0
	for n := range 40 {
		if a := s.as(s.admin, "GET", "/v1/boards/b", "", "Client-Instance", fmt.Sprint("phone", n)); a.status == 429 {
			refused++
			assert.Contains(t, a.body, "this address")
		}
	}
	assert.Greater(t, refused, 15)
	assert.Equal(t, 200, s.as("", "GET", "/healthz", "").status, "operators ask without")
}

// A board to which much is written waits until it is paid; nothing of what is refused is
// done, and others notice nothing.
func TestDebt(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testDebt)
}

func testDebt(t *testing.T) {
	s := sharedInMemory(t, server.Options{Limits: server.Limits{WriteRate: 256 << 10}})
	s.make("busy")
	s.make("quiet")
	value := `"` + strings.Repeat("x", 200<<10) + `"`
	passed, refused := 0, 0
	for n := range 6 {
		a := s.as(s.admin, "PUT", fmt.Sprint("/v1/boards/busy/entries/", n), value, "Content-Type", typeJSON)
		if a.status == 201 {
			passed++
			continue
		}
		refused++
		assert.Equal(t, []any{429, "rate-limited"}, []any{a.status, a.code()})
		assert.NotEmpty(t, a.header.Get("Retry-After"))
	}
	assert.Less(t, passed, 5)
	assert.Positive(t, refused)
	assert.Equal(t, json.Number(fmt.Sprint(passed)), s.as(s.admin, "GET", "/v1/boards/busy", "").json["entries"], "reading goes on")
	s.ordinary(s.admin, 3)
	require.Eventually(t, func() bool {
		return s.as(s.admin, "PUT", "/v1/boards/busy/entries/more", "1").status == 201
	}, hang.Patience, 100*time.Millisecond)
}

// A small commit that causes much work is refused, and delays no other caller.
func TestWork(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("busy")
	s.make("quiet")
	items := make([]string, 20_000)
	for i := range items {
		items[i] = `"item"`
	}
	require.Equal(t, 201, s.as(s.admin, "PUT", "/v1/boards/busy/entries/list", "["+strings.Join(items, ",")+"]", "Content-Type", typeJSON).status)
	ops := make([]string, 1000)
	for i := range ops {
		ops[i] = `{"op":"append","name":"list","item":"item"}`
	}
	done := make(chan answer, 1)
	go func() {
		done <- s.as(s.admin, "POST", "/v1/boards/busy/commit", `{"ops":[`+strings.Join(ops, ",")+`]}`)
	}()
	s.ordinary(s.admin, 5)
	a := <-done
	assert.Equal(t, []any{413, "too-large"}, []any{a.status, a.code()}, a.body)
	assert.Contains(t, a.body, `"op":`)
	a = s.as(s.admin, "GET", "/v1/boards/busy", "")
	assert.Equal(t, json.Number("1"), a.json["version"], "and nothing was done")
	few := s.as(s.admin, "POST", "/v1/boards/busy/commit", `{"ops":[`+strings.Join(ops[:50], ",")+`]}`)
	assert.Equal(t, 200, few.status, few.body)
}

// Large bodies that never end fill one token's share, and no more: another token's, and
// small ones, get through.
func TestSlowBodies(t *testing.T) {
	s := startShared(t, server.Options{})
	s.make("busy")
	s.make("quiet")
	greedy, _ := s.invite(s.admin, "busy", `{"may":"write"}`)
	before := heapInUse()
	const size = 1 << 20
	body := `"` + strings.Repeat("x", size-100)
	var conns []net.Conn
	for n := range 40 {
		conns = append(conns, s.raw(greedy, "PUT", fmt.Sprint("/v1/boards/busy/entries/", n), size, body))
	}
	refused := make(chan int, len(conns))
	for _, conn := range conns {
		go func() {
			_ = conn.SetReadDeadline(time.Now().Add(3 * time.Second)) // less than a piece may take
			resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
			if err != nil {
				refused <- 0
				return
			}
			refused <- resp.StatusCode
		}()
	}
	s.ordinary(s.admin, 10)
	grown := heapInUse() - before
	assert.Less(t, grown, int64(64<<20), "memory that they hold")
	answers := map[int]int{}
	for range conns {
		answers[<-refused]++
	}
	assert.Equal(t, 0, answers[200]+answers[201])
	assert.GreaterOrEqual(t, answers[503], 10, "%v: how many depends on how much of each has come when the share is full", answers)
	large := s.as(s.admin, "PUT", "/v1/boards/quiet/entries/large", `"`+strings.Repeat("y", 900<<10)+`"`, "Content-Type", typeJSON)
	assert.Equal(t, 201, large.status, "another's large body gets through")
	for _, conn := range conns {
		conn.Close()
	}
	require.Eventually(t, func() bool {
		return s.as(greedy, "PUT", "/v1/boards/busy/entries/large", `"`+strings.Repeat("y", 900<<10)+`"`, "Content-Type", typeJSON).status == 201
	}, hang.Patience, 50*time.Millisecond, "and what they held is given back")
}

// A body that stops coming is given up.
func TestBodyThatStops(t *testing.T) {
	t.Parallel()
	synctest.Test(t, testBodyThatStops)
}

func testBodyThatStops(t *testing.T) {
	s := sharedInMemory(t, server.Options{})
	s.make("b")
	conn := s.raw(s.admin, "PUT", "/v1/boards/b/entries/x", 200<<10, `"half`)
	code, _ := status(t, conn)
	assert.Equal(t, 400, code)
}

// Readers that don't read hold little memory, and delay no other caller.
func TestSlowReaders(t *testing.T) {
	s := startShared(t, server.Options{})
	s.make("busy")
	s.make("quiet")
	value := strings.Repeat("<", 10<<10) // six times as long where it is escaped
	for n := 0; n < 500; n += 50 {
		ops := make([]string, 50)
		for i := range ops {
			ops[i] = fmt.Sprintf(`{"op":"put","name":"n/%d","value":%q}`, n+i, value)
		}
		require.Equal(t, 200, s.as(s.admin, "POST", "/v1/boards/busy/commit", `{"ops":[`+strings.Join(ops, ",")+`]}`).status)
	}
	page := s.as(s.admin, "GET", "/v1/boards/busy/entries?limit=10000", "")
	assert.Less(t, len(page.body), 4<<20+1, "a page is bounded in bytes, as it is sent")
	next, has := page.json["next"].(string)
	require.True(t, has)
	rest := s.as(s.admin, "GET", "/v1/boards/busy/entries?limit=10000&after="+next, "")
	assert.Equal(t, 200, rest.status)
	page, rest = answer{}, answer{}
	before := heapInUse()
	for n := range 100 {
		path := "/v1/boards/busy/entries?limit=10000"
		if n%2 == 1 {
			path = "/v1/boards/busy/events?limit=10000"
		}
		s.raw(s.admin, "GET", path, 0, "")
	}
	s.ordinary(s.admin, 10)
	grown := heapInUse() - before
	assert.Less(t, grown, int64(40<<20), "memory that they hold: it is written piece by piece")
	t.Logf("100 readers that don't read hold %d KiB", grown>>10)
}

// Readers that do not read their answers to large commits do not hold up the large commits of others.
func TestTurnEndsBeforeTheAnswer(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{})
		ops := make([]string, 60)
		for i := range ops {
			ops[i] = fmt.Sprintf(`{"op":"put","name":"n/%d","value":%q}`, i, strings.Repeat("x", 15<<10))
		}
		large := `{"ops":[` + strings.Join(ops, ",") + `]}`
		var slow []net.Conn
		for n := range 4 {
			board := fmt.Sprintf("slow-%d", n)
			s.make(board)
			slow = append(slow, s.raw(s.admin, "POST", "/v1/boards/"+board+"/commit", len(large), large))
			time.Sleep(10 * time.Millisecond) // the body has arrived
			synctest.Wait()                   // the answer waits for its reader
			require.Equal(t, 200, s.as(s.admin, "GET", "/v1/boards/"+board+"/entries/n/7", "").status)
		}
		s.make("quiet")
		begun := time.Now()
		assert.Equal(t, 200, s.as(s.admin, "POST", "/v1/boards/quiet/commit", large).status)
		assert.Less(t, time.Since(begun), time.Second)
		for _, conn := range slow {
			conn.Close()
		}
		s.stop()
	})
}

// One client at full speed, and a thousand connections that say nothing, leave an ordinary
// phone alone.
func TestNobodyHoldsTheOthersUp(t *testing.T) {
	s := startShared(t, server.Options{})
	s.make("quiet")
	s.make("busy")
	var idle []net.Conn
	for range 1000 {
		conn, err := net.Dial("tcp", strings.TrimPrefix(s.base, "http://"))
		require.NoError(t, err)
		_, err = io.WriteString(conn, "GET / HT")
		require.NoError(t, err)
		idle = append(idle, conn)
	}
	stop := make(chan struct{})
	var busy sync.WaitGroup
	for range 4 {
		busy.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					s.as(s.admin, "POST", "/v1/boards/busy/entries/n", `{"op":"add","amount":1}`)
				}
			}
		})
	}
	slowest := s.ordinary(s.admin, 50)
	close(stop)
	busy.Wait()
	t.Logf("slowest of an ordinary phone: %v", slowest)
	for _, conn := range idle {
		conn.Close()
	}
	unknown := heapInUse()
	for n := range 3000 {
		s.as(s.admin, "GET", fmt.Sprintf("/v1/boards/quiet/entries/unknown/%d", n), "")
	}
	assert.Less(t, heapInUse()-unknown, int64(4<<20), "reading what is absent leaves nothing")
}

// A body has 60 s in all, even if each of its pieces comes in time.
func TestBodyThatTrickles(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{})
		s.make("b")
		began := time.Now()
		conn := s.raw(s.admin, "PUT", "/v1/boards/b/entries/x", 100, `"`)
		var trickle sync.WaitGroup
		trickle.Go(func() {
			for {
				time.Sleep(5 * time.Second)
				if _, err := conn.Write([]byte("x")); err != nil {
					return
				}
			}
		})
		require.NoError(t, conn.SetReadDeadline(began.Add(10*time.Minute)))
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		assert.Equal(t, 400, resp.StatusCode)
		assert.InDelta(t, 60, time.Since(began).Seconds(), 1)
		require.NoError(t, conn.Close())
		trickle.Wait()
	})
}
