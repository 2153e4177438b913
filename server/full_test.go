package server_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/server"
)

// A full disk refuses writes, new boards and new links, and says so. Nothing stored is lost, reads work, and
// so do writes when there is room again.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	boards := filepath.Join(data, "boards")
	disk := simdisk.New()
	hooks.Set(boards, hooks.Setting{Disk: disk})
	t.Cleanup(func() { hooks.Unset(boards) })
	s := startShared(t, server.Options{Data: data})
	s.make("b")
	own, _ := s.invite(s.admin, "b", `{"may":"own"}`)
	for n := range 5 {
		assert.Equal(t, 201, s.as(own, "PUT", fmt.Sprint("/v1/boards/b/entries/n/", n), fmt.Sprint(n)).status)
	}
	refused := func(a answer) {
		t.Helper()
		assert.Equal(t, []any{503, "unavailable", true}, []any{a.status, a.code(), a.header.Get("Retry-After") != ""}, a.body)
		assert.NotContains(t, a.body, boards)
	}
	for _, space := range []int{0, 1, 60} {
		disk.Space(space)
		refused(s.as(own, "PUT", "/v1/boards/b/entries/n/9", `"`+strings.Repeat("x", 1000)+`"`, "Content-Type", typeJSON))
		refused(s.as(own, "POST", "/v1/boards/b/commit", `{"ops":[{"op":"add","name":"n/2","amount":1},{"op":"put","name":"long","value":"`+strings.Repeat("x", 1000)+`"}]}`))
		refused(s.as(s.admin, "POST", "/v1/boards", `{"board":"new"}`))
		refused(s.as(own, "POST", "/v1/boards/b/tokens", `{"may":"read","label":"`+strings.Repeat("x", 60)+`"}`))
		a := s.as(own, "GET", "/v1/boards/b/entries", "")
		assert.Equal(t, 200, a.status)
		assert.Len(t, a.json["entries"], 5, "nothing is lost, and nothing half done")
		assert.Contains(t, a.body, `"name":"n/2","kind":"int","value":2`)
		assert.Len(t, s.as(own, "GET", "/v1/boards/b/tokens", "").json["tokens"], 1)
	}
	disk.Space(1 << 20)
	assert.Equal(t, 200, s.as(own, "PUT", "/v1/boards/b/entries/n/1", "7").status)
	s.make("new")
	s.invite(own, "b", `{"may":"read"}`)
	s.stop()
	s = startShared(t, server.Options{Data: data})
	assert.Equal(t, "7\n", strings.TrimSpace(s.as(own, "GET", "/v1/boards/b/entries/n/1", "", "Accept", "text/plain").body)+"\n")
}
