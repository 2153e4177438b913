package server_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/server"
)

// openFiles is how many files the process has open; 0 where the system doesn't say.
func openFiles() int {
	files, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return 0
	}
	return len(files)
}

// A server on which boards, links, streams and values come and go stays as it is: memory,
// goroutines and open files are level.
func TestMixedLoad(t *testing.T) {
	lasts := soak.For(time.Second, time.Hour)
	s := startShared(t, server.Options{})
	worker := func(n int, until time.Time) {
		r := rand.New(rand.NewPCG(uint64(n), 5))
		for round := 0; time.Now().Before(until); round++ {
			name := fmt.Sprintf("board-%d-%d", n, round%20)
			board := "/v1/boards/" + name
			if s.as(s.admin, "POST", "/v1/boards", `{"board":"`+name+`"}`).status >= 300 {
				t.Errorf("%s was not made", name)
				return
			}
			token, _ := s.invite(s.admin, name, `{"may":"write"}`)
			for i := range 10 {
				switch r.IntN(5) {
				case 0:
					s.as(token, "PUT", fmt.Sprintf("%s/entries/n/%d", board, r.IntN(50)), fmt.Sprint(i))
				case 1:
					s.as(token, "POST", board+"/entries/sum", `{"op":"add","amount":1}`)
				case 2:
					s.as(token, "GET", board+"/entries?prefix=n/", "")
				case 3:
					s.as(token, "GET", board+"/entries/absent/"+fmt.Sprint(r.Int()), "")
				case 4:
					req, err := http.NewRequestWithContext(t.Context(), "GET", s.base+board+"/events", nil)
					if !assert.NoError(t, err) {
						return
					}
					req.Header.Set("Authorization", "Bearer "+token)
					resp, err := http.DefaultClient.Do(req)
					if !assert.NoError(t, err) {
						return
					}
					_, _ = resp.Body.Read(make([]byte, 10))
					resp.Body.Close()
				}
			}
			s.as(s.admin, "DELETE", board, "")
		}
	}
	load := func(d time.Duration) {
		var all sync.WaitGroup
		until := time.Now().Add(d)
		for n := range 8 {
			all.Go(func() { worker(n, until) })
		}
		all.Wait()
		http.DefaultClient.CloseIdleConnections()
	}
	settle := func() (goroutines, files int, heap int64) {
		require.Eventually(t, func() bool { return s.streams() == "0" }, hang.Patience, 20*time.Millisecond)
		http.DefaultClient.CloseIdleConnections()
		time.Sleep(1500 * time.Millisecond) // a replaced file is closed after a second; nothing signals that
		return runtime.NumGoroutine(), openFiles(), heapInUse()
	}
	load(lasts / 2)
	goroutines, files, heap := settle()
	load(lasts)
	goroutinesNow, filesNow, heapNow := settle()
	t.Logf("goroutines %d, then %d; files %d, then %d; heap %d KiB, then %d KiB", goroutines, goroutinesNow, files, filesNow, heap>>10, heapNow>>10)
	assert.LessOrEqual(t, goroutinesNow, goroutines+10)
	assert.LessOrEqual(t, filesNow, files+10)
	assert.LessOrEqual(t, heapNow, heap+(2<<20))
}
