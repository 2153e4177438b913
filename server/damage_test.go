package server_test

import (
	"bytes"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/server"
)

// A board whose file is damaged is left unchanged and reported. The other boards work.
func TestDamagedBoard(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	for _, board := range []string{"rowan-street", "elm-street"} {
		for _, name := range []string{"tank", "gate", "hose"} {
			require.Equal(t, http.StatusCreated, ask(t, "PUT", base+"/v1/boards/"+board+"/entries/"+name, "420", "Content-Type", typeJSON).status)
		}
	}
	stop()
	path := filepath.Join(data, "boards", "rowan-street.jsonl")
	file, err := os.ReadFile(path)
	require.NoError(t, err)
	file[bytes.Index(file, []byte(`"value":420`))+9]++
	require.NoError(t, os.WriteFile(path, file, 0o600))

	var log strings.Builder
	base, stop = startWith(t, server.Options{Data: data, Dev: true, Log: slog.New(slog.NewTextHandler(&log, nil))})
	call := func(method, path, body string) answer {
		return ask(t, method, base+path, body, "Content-Type", typeJSON)
	}
	for _, a := range []answer{
		call("GET", "/v1/boards/rowan-street/entries/gate", ""),
		call("GET", "/v1/boards/rowan-street/entries", ""),
		call("PUT", "/v1/boards/rowan-street/entries/gate", "1"),
		call("POST", "/v1/boards/rowan-street/entries/gate", `{"op":"add","amount":1}`),
	} {
		assert.Equal(t, http.StatusServiceUnavailable, a.status, a.body)
		assert.Contains(t, a.body, `"code":"unavailable"`)
		assert.Contains(t, a.body, "damaged")
		assert.Equal(t, "60", a.header.Get("Retry-After"))
	}
	assert.Equal(t, http.StatusOK, call("GET", "/v1/boards/elm-street/entries/gate", "").status)
	assert.Equal(t, http.StatusOK, call("PUT", "/v1/boards/elm-street/entries/gate", "1").status)
	stop()
	assert.Contains(t, log.String(), "rowan-street", "its operator hears of it")
	assert.Contains(t, log.String(), "line 2")
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(file), string(after), "and nothing is touched")
}

// A board of a later server is distinguished from a damaged one.
func TestBoardOfALaterServer(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	require.Equal(t, http.StatusCreated, ask(t, "PUT", base+"/v1/boards/rowan-street/entries/tank", "420", "Content-Type", typeJSON).status)
	stop()
	path := filepath.Join(data, "boards", "rowan-street.jsonl")
	file, err := os.ReadFile(path)
	require.NoError(t, err)
	// A header of another format, whose checksum fits.
	lines := strings.SplitAfterN(string(file), "\n", 2)
	later := journal.Finish([]byte(strings.Replace(lines[0][:strings.Index(lines[0], `,"crc"`)], "small-pantry/1", "small-pantry/2", 1)), 0)
	require.NoError(t, os.WriteFile(path, append(later, lines[1]...), 0o600))
	var log strings.Builder
	base, stop = startWith(t, server.Options{Data: data, Dev: true, Log: slog.New(slog.NewTextHandler(&log, nil))})
	a := ask(t, "GET", base+"/v1/boards/rowan-street/entries/tank", "")
	assert.Equal(t, http.StatusInternalServerError, a.status)
	assert.NotContains(t, a.body, "damaged")
	stop()
	assert.Contains(t, log.String(), "use a newer program")
}
