package server_test

import (
	"bytes"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/server"
)

// A link belongs to the life of its board. It outlives forgetting, restarts and a repair, and it ends with the
// board, even if the server was killed before it could drop the token.
func TestLinksBelongToTheBoardsLife(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	b := "/v1/boards/b"
	file := filepath.Join(s.data, "boards", "b.jsonl")
	require.Equal(t, 201, s.as(s.admin, "POST", "/v1/boards", `{"board":"b"}`).status)
	owner, _ := s.invite(s.admin, "b", `{"may":"own"}`)
	require.Equal(t, 201, s.as(owner, "PUT", b+"/entries/tank/litres", "3200").status)
	restart := func(meanwhile func()) {
		s.stop()
		meanwhile()
		s = startShared(t, server.Options{Data: s.data})
	}
	works := func(when string) {
		t.Helper()
		assert.Equal(t, 200, s.as(owner, "GET", b+"/entries", "").status, when)
		assert.Contains(t, s.as(s.admin, "GET", b+"/tokens", "").body, `"may":"own"`, when)
	}

	require.Equal(t, 201, s.as(owner, "PUT", b+"/entries/code", `"secret"`).status)
	require.Less(t, s.as(owner, "DELETE", b+"/entries/code?forget=true", "").status, 300)
	works("after forgetting")
	restart(func() {})
	works("after a restart")
	restart(func() {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, bytes.Replace(raw, []byte(`"format"`), []byte(`"farmat"`), 1), 0o600))
		_, err = pantry.Repair(filepath.Dir(file), "b")
		require.NoError(t, err)
	})
	works("after a repair without a header")
	again, _ := s.invite(owner, "b", `{"may":"read"}`)
	assert.Equal(t, 200, s.as(again, "GET", b+"/entries", "").status)

	// The board is gone, and its tokens are still there.
	restart(func() { require.NoError(t, os.Remove(file)) })
	for _, link := range []string{owner, again} {
		for _, c := range [][2]string{{"GET", b}, {"GET", b + "/entries"}, {"PUT", b + "/entries/x"}, {"GET", b + "/tokens"}, {"DELETE", b}, {"GET", b + "/events"}, {"GET", b + "/keys"}} {
			assert.Equal(t, 401, s.as(link, c[0], c[1], "1").status, "%s %s without the board", c[0], c[1])
		}
	}
	require.Equal(t, 201, s.as(s.admin, "POST", "/v1/boards", `{"board":"b"}`).status)
	for _, link := range []string{owner, again} {
		for _, c := range [][2]string{{"GET", b}, {"GET", b + "/entries"}, {"PUT", b + "/entries/x"}, {"GET", b + "/tokens"}, {"DELETE", b}, {"GET", b + "/events"}, {"GET", b + "/keys"}} {
			assert.Equal(t, 401, s.as(link, c[0], c[1], "1").status, "%s %s of the next board", c[0], c[1])
		}
	}
	assert.NotContains(t, s.as(s.admin, "GET", b+"/tokens", "").body, `"may"`)
	owner, _ = s.invite(s.admin, "b", `{"may":"own"}`)
	works("of the new board")
}

// Boards are made, used and removed at the same time. A link works unless its board was removed, and what was
// made after a removal is not touched by it.
func TestMakeAndRemoveAtOnce(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	b := "/v1/boards/b"
	var begun, ended atomic.Int64 // removals
	var rounds, undisturbed atomic.Int64
	var all sync.WaitGroup
	done := make(chan struct{})
	all.Go(func() {
		defer close(done)
		for range 150 {
			begun.Add(1)
			if status := s.as(s.admin, "DELETE", b, "").status; status != 204 && status != 404 {
				t.Errorf("a removal was answered %d", status)
			}
			ended.Add(1)
			for from := rounds.Load(); rounds.Load() < from+8; { // so that some are not disturbed
				runtime.Gosched()
			}
		}
	})
	for range 4 {
		all.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				before, under := ended.Load(), begun.Load()
				made := s.as(s.admin, "POST", "/v1/boards", `{"board":"b"}`)
				if made.status != 200 && made.status != 201 {
					t.Errorf("a creation was answered %d %s", made.status, made.body)
				}
				link := s.as(s.admin, "POST", b+"/tokens", `{"may":"write"}`)
				put := 0
				if link.status == 201 {
					put = s.as(link.json["token"].(string), "PUT", b+"/entries/n", "1").status
				}
				if before == under && begun.Load() == under { // no removal was under way
					undisturbed.Add(1)
					assert.Contains(t, []int{200, 201}, put)
				}
				assert.Contains(t, []int{0, 200, 201, 401, 404}, put, "the link was answered %d", link.status)
				rounds.Add(1)
			}
		})
	}
	all.Wait()
	assert.Positive(t, undisturbed.Load())
}
