package server_test

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/server"
)

// A backup is a copy of the files, made while the server writes and compacts: it opens, has
// at least what was answered before the copy began, and its links go on.
func TestBackupByCopying(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	hooks.Set(filepath.Join(data, "boards"), hooks.Setting{Small: 4 << 10})
	t.Cleanup(func() { hooks.Unset(filepath.Join(data, "boards")) })
	s := startShared(t, server.Options{Data: data})
	s.make("b")
	own, _ := s.invite(s.admin, "b", `{"may":"own"}`)
	var added atomic.Int64
	stop := make(chan struct{})
	var writers sync.WaitGroup
	for i := range 4 {
		writers.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				a := s.as(own, "POST", "/v1/boards/b/commit", fmt.Sprintf(`{"ops":[{"op":"add","name":"sum","amount":1},{"op":"put","name":"n/%d/%d","value":%d}]}`, i, n%50, n))
				if !assert.Equal(t, 200, a.status, a.body) {
					return
				}
				added.Add(1)
			}
		})
	}
	var copies []string
	var least []int64
	for range 8 {
		for before := added.Load(); added.Load() < before+20; {
		}
		least = append(least, added.Load())
		copies = append(copies, copyOf(t, data))
	}
	close(stop)
	writers.Wait()
	s.stop()
	for i, dir := range copies {
		restored := startShared(t, server.Options{Data: dir})
		a := restored.as(own, "GET", "/v1/boards/b/entries/sum", "")
		require.Equal(t, 200, a.status, a.body)
		sum, err := a.json["value"].(json.Number).Int64()
		require.NoError(t, err)
		assert.GreaterOrEqual(t, sum, least[i])
		assert.LessOrEqual(t, sum, added.Load())
		assert.Equal(t, 200, restored.as(own, "POST", "/v1/boards/b/entries/sum", `{"op":"add","amount":1}`).status)
		restored.stop()
	}
}

// copyOf copies a directory file by file, each in small pieces as a slow copy would.
func copyOf(t *testing.T, dir string) string {
	t.Helper()
	to := t.TempDir()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, path)
		if os.IsNotExist(err) { // a file that a compaction writes, and renames
			return nil
		}
		if err != nil || d.IsDir() {
			return os.MkdirAll(filepath.Join(to, rel), 0o700)
		}
		in, err := os.Open(path)
		if os.IsNotExist(err) {
			return nil
		}
		require.NoError(t, err)
		defer in.Close()
		out, err := os.OpenFile(filepath.Join(to, rel), os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		buf := make([]byte, 700)
		for {
			n, err := in.Read(buf)
			_, bad := out.Write(buf[:n])
			require.NoError(t, bad)
			if err == io.EOF {
				return out.Close()
			}
			require.NoError(t, err)
		}
	}))
	return to
}
