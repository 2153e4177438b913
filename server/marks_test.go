package server_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/hang"
)

// A mark is valid only with the commit that it was made for: not after an older file was put back under a
// running server, nor a repaired one, nor when versions were used again.
func TestMarks(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	at := base + "/v1/boards/b"
	path := filepath.Join(data, "boards", "b.jsonl")
	mark := func() string { return ask(t, "GET", at+"/entries", "").json["mark"].(string) }
	since := func(m string) (whole any, names int) {
		a := ask(t, "GET", at+"/entries?since="+m, "")
		return a.json["whole"], len(a.json["entries"].([]any))
	}
	for i := range 3 {
		ask(t, "PUT", fmt.Sprint(at, "/entries/n", i), "1")
	}
	third := mark()
	backup, err := os.ReadFile(path)
	require.NoError(t, err)
	ask(t, "PUT", at+"/entries/n3", "1")
	fourth := mark()
	l := listen(t, at+"/events", "Last-Event-ID", fourth)
	assert.Empty(t, l.next().text())

	put := func(file []byte) {
		require.NoError(t, os.WriteFile(path+".tmp", file, 0o600))
		require.NoError(t, os.Rename(path+".tmp", path))
	}
	put(backup)
	assert.Equal(t, "n0=1 n1=1 n2=1 whole", l.next().text(), "a stream reports it by itself")
	require.Eventually(t, func() bool { return mark() == third }, hang.Patience, 50*time.Millisecond)
	whole, n := since(third)
	assert.Equal(t, []any{false, 0}, []any{whole, n}, "what is in the backup is as it was")
	whole, n = since(fourth)
	assert.Equal(t, []any{true, 3}, []any{whole, n})
	ask(t, "PUT", at+"/entries/another", "1")
	assert.NotEqual(t, fourth, mark(), "version 4 is another one now")
	whole, n = since(fourth)
	assert.Equal(t, []any{true, 4}, []any{whole, n})
	whole, n = since(third)
	assert.Equal(t, []any{false, 1}, []any{whole, n})

	// A repaired file.
	now := mark()
	stop()
	file, err := os.ReadFile(path)
	require.NoError(t, err)
	i := strings.LastIndex(string(file), `"another"`)
	file[i+1] = 'A'
	require.NoError(t, os.WriteFile(path, append(file, "\n"...), 0o600))
	_, _, err = ledger.Mend(filepath.Join(data, "boards"), "b", ledger.Options{})
	require.NoError(t, err)
	base, stop = start(t, data)
	at = base + "/v1/boards/b"
	whole, _ = since(now)
	assert.Equal(t, true, whole)

	// Compaction forgets nothing while the server runs, and little after a restart.
	ask(t, "PUT", at+"/entries/rare", "1")
	rare := mark()
	for i := range 5000 {
		ask(t, "POST", at+"/entries/busy", fmt.Sprintf(`{"op":"add","amount":%d}`, i+1))
	}
	whole, n = since(rare)
	assert.Equal(t, []any{false, 1}, []any{whole, n})
	newest := mark()
	stop()
	base, _ = start(t, data)
	at = base + "/v1/boards/b"
	assert.Equal(t, newest, mark(), "a restart costs clients nothing")
	whole, n = since(rare)
	assert.Equal(t, []any{false, 1}, []any{whole, n}, "a commit that is kept is known")
}

// An older file that was put back is noticed by every reader, a second later at most.
func TestBackupIsNoticedByReading(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, _ := start(t, data)
	at := base + "/v1/boards/b/entries"
	path := filepath.Join(data, "boards", "b.jsonl")
	ask(t, "PUT", at+"/a", "1")
	backup, err := os.ReadFile(path)
	require.NoError(t, err)
	for name, read := range map[string]func() any{
		"entry": func() any { return ask(t, "GET", at+"/a", "").json["value"] },
		"list":  func() any { return ask(t, "GET", at, "").json["entries"].([]any)[0].(map[string]any)["value"] },
		"history": func() any {
			return ask(t, "GET", base+"/v1/boards/b/history", "").json["commits"].([]any)[0].(map[string]any)["changes"].([]any)[0].(map[string]any)["new"]
		},
	} {
		ask(t, "PUT", at+"/a", "2")
		require.NoError(t, os.WriteFile(path+".tmp", backup, 0o600))
		require.NoError(t, os.Rename(path+".tmp", path))
		assert.Eventually(t, func() bool { return read() == json.Number("1") }, hang.Patience, 20*time.Millisecond, name)
	}
}

// A mark of a board that was removed says nothing about the next board of that name, even if both
// have had the same number of commits.
func TestMarksOfAnotherLife(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	ask(t, "PUT", at+"/entries/n", "1")
	tag := ask(t, "GET", at+"/entries", "").header.Get("ETag")
	require.Equal(t, 304, ask(t, "GET", at+"/entries", "", "If-None-Match", tag).status)
	require.Equal(t, 204, ask(t, "DELETE", at, "").status)
	ask(t, "PUT", at+"/entries/n", "2")
	a := ask(t, "GET", at+"/entries", "", "If-None-Match", tag)
	require.Equal(t, 200, a.status, a.body)
	assert.Contains(t, a.body, `"value":2`)
	assert.Contains(t, a.body, `"version":1`)
}
