package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hooks"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/server"
)

// fuzz sends any body to a path of a real handler: it never fails, answers as
// openapi.json has it, and what it stores can be read again.
func fuzz(f *testing.F, method, path, media string, seeds ...string) {
	for _, seed := range seeds {
		f.Add([]byte(seed))
	}
	data := f.TempDir()
	boards := filepath.Join(data, "boards")
	hooks.Set(boards, hooks.Setting{Disk: simdisk.New()})
	f.Cleanup(func() { hooks.Unset(boards) })
	s, err := server.New(server.Options{Data: data, Dev: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(f, err)
	f.Cleanup(func() { require.NoError(f, s.Close()) })
	ask := func(t testing.TB, method, path string, body []byte) answer {
		r := httptest.NewRequest(method, "http://localhost:8437"+path, bytes.NewReader(body))
		r.RemoteAddr = "127.0.0.1:1"
		r.Header.Set("Content-Type", media)
		local := net.Addr(&net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 8437})
		rec := httptest.NewRecorder()
		s.ServeHTTP(rec, r.WithContext(context.WithValue(r.Context(), http.LocalAddrContextKey, local)))
		a := answer{status: rec.Code, header: rec.Header(), body: rec.Body.String()}
		if rec.Body.Len() > 0 {
			dec := json.NewDecoder(bytes.NewReader(rec.Body.Bytes()))
			dec.UseNumber()
			require.NoError(t, dec.Decode(&a.json), a.body)
		}
		openAPI().check(t, r, a)
		return a
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		a := ask(t, method, path, body)
		require.Less(t, a.status, 500, "%s\n%q", a.body, body)
		if a.status < 300 {
			ask(t, "GET", "/v1/boards/b/entries", nil)
			ask(t, "GET", "/v1/boards/b/keys", nil)
			ask(t, "POST", "/v1/boards/b/keys", []byte(`{"closed":false}`))
			require.Equal(t, 200, ask(t, "POST", "/v1/boards/b/commit", []byte(`{"ops":[{"op":"reset","prefix":""}]}`)).status)
		}
	})
}

func FuzzPutJSON(f *testing.F) {
	fuzz(f, "PUT", "/v1/boards/b/entries/n", typeJSON, "1", "1.5", "-0.0", `"a"`, "true", "null", "[1,[2.0]]", `{"a":{"b":null}}`, "1e400", "9223372036854775808", `"\ud800"`)
}

func FuzzPutText(f *testing.F) {
	fuzz(f, "PUT", "/v1/boards/b/entries/n", "text/plain", "1", "0042", "[1", "{}", "true", "\xff", "NaN")
}

func FuzzOperation(f *testing.F) {
	fuzz(f, "POST", "/v1/boards/b/entries/n", typeJSON, `{"op":"add","amount":1,"start":5,"min":0,"max":9}`, `{"op":"raise","to":1}`, `{"op":"append","item":[],"keep":3,"unique":true}`, `{"op":"remove","item":1,"all":true}`, `{"op":"take","at":-1}`)
}

func FuzzCommit(f *testing.F) {
	fuzz(f, "POST", "/v1/boards/b/commit", typeJSON, `{"ops":[{"op":"put","name":"a","value":1,"as":"time","kind":"int","if":"1-2"},{"op":"put","name":"b","typed":"5"},{"op":"drop","name":"a","if":0},{"op":"reset","prefix":""},{"op":"restore","at":0,"names":["a"],"prefix":"b"},{"op":"take","name":"q","at":0}]}`,
		`{"ops":[{"op":"restore","at":"2026-05-03T09:12:44Z","prefix":""}]}`)
}

func FuzzDeclaration(f *testing.F) {
	fuzz(f, "POST", "/v1/boards/b/keys", typeJSON, `{"keys":[{"name":"a","kind":"int","default":1,"min":0,"max":9,"about":"x"},{"name":"q","kind":"list","default":[],"keep":3},{"name":"u","kind":"text","default":"b","choices":["b"],"family":true}],"change":true,"closed":true}`)
}

func FuzzBoardName(f *testing.F) {
	fuzz(f, "POST", "/v1/boards", typeJSON, `{"board":"rowan-street"}`, `{"board":".."}`, `{"board":"a","board":"b"}`)
}
