package server_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What was, and what a restore makes of it.
func TestRestoreOnABoard(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	commit := func(ops string) answer { return ask(t, "POST", at+"/commit", `{"ops":[`+ops+`]}`) }
	commit(`{"op":"put","name":"beds/C4","value":"beans"},{"op":"put","name":"beds/B2","value":"peas"},{"op":"put","name":"tank/litres","value":420}`)
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"tank/litres","kind":"int","default":0,"max":500,"min":0}]}`)
	commit(`{"op":"reset","prefix":"beds/"},{"op":"put","name":"tank/litres","value":0},{"op":"put","name":"beds/D5","value":"garlic"}`)
	a := commit(`{"op":"restore","at":1,"prefix":"beds/"}`)
	require.Equal(t, 200, a.status, a.body)
	assert.Len(t, a.json["entries"], 2)
	assert.Len(t, a.json["gone"], 1)
	assert.Equal(t, json.Number("0"), ask(t, "GET", at+"/entries/tank/litres", "").json["value"], "nothing else")
	a = commit(`{"op":"restore","at":1,"names":["tank/litres","nothing"]},{"op":"add","name":"tank/litres","amount":1}`)
	assert.Equal(t, json.Number("421"), a.json["entries"].([]any)[0].(map[string]any)["value"])
	assert.Equal(t, json.Number("5"), a.json["version"])
	assert.Equal(t, []any{map[string]any{"changed": false}}, commit(`{"op":"restore","at":4,"prefix":"beds/"}`).json["results"], "as it is already")
	a = commit(`{"op":"put","name":"x","value":1},{"op":"restore","at":99,"prefix":""}`)
	assert.Equal(t, []any{"too-old", json.Number("1")}, []any{a.code(), a.json["op"]})
	now := time.Now().UTC().Format(time.RFC3339Nano)
	time.Sleep(2 * time.Millisecond) // the next commit must have a later time, in milliseconds
	commit(`{"op":"reset","prefix":""}`)
	a = commit(`{"op":"restore","at":"` + now + `","prefix":""}`)
	assert.Len(t, a.json["entries"], 3)
	for _, op := range []string{`{"op":"restore","at":1}`, `{"op":"restore","prefix":""}`, `{"op":"restore","at":-1,"prefix":""}`, `{"op":"restore","at":"noon","prefix":""}`, `{"op":"restore","at":1,"prefix":"","if":1}`, `{"op":"restore","at":1,"names":["a//b"]}`, `{"op":"restore","at":1,"at":2,"prefix":""}`} {
		assert.Equal(t, "invalid", commit(op).code(), op)
	}
	assert.Equal(t, "too-old", ask(t, "POST", base+"/v1/boards/none/commit", `{"ops":[{"op":"restore","at":3,"prefix":""}]}`).code())
	// What is declared by now holds for what comes back.
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"tank/litres","kind":"int","default":0,"max":5,"min":0}],"change":true}`)
	commit(`{"op":"drop","name":"tank/litres"}`)
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"tank/litres","kind":"int","default":0,"max":5,"min":0}],"change":true}`)
	assert.Equal(t, "out-of-range", commit(`{"op":"restore","at":5,"prefix":""}`).code())

	a = ask(t, "GET", at+"/entries?at=1&prefix=beds/&limit=1", "")
	assert.Equal(t, []any{1, "beds/B2"}, []any{len(a.json["entries"].([]any)), a.json["next"]})
	a = ask(t, "GET", at+"/entries?at=1&prefix=beds/&limit=1&after=beds/B2&names=true", "")
	assert.Equal(t, []any{1, nil}, []any{len(a.json["entries"].([]any)), a.json["next"]})
	assert.Len(t, ask(t, "GET", at+"/history?prefix=beds/", "").json["commits"], 5)
	assert.Len(t, ask(t, "GET", at+"/history?prefix=beds/&before=3", "").json["commits"], 1)
}

// An entry exists at every version that is returned, while the file is rewritten.
func TestAtWhileCompacting(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	ask(t, "PUT", at+"/entries/rare", "1")
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := range soak.Rounds(2500, 6000) {
			ask(t, "POST", at+"/entries/busy", fmt.Sprintf(`{"op":"add","amount":%d}`, i+1))
		}
	}()
	for n := 0; ; n++ {
		version := ask(t, "GET", at+"/entries/busy", "").json["version"]
		if version != nil {
			a := ask(t, "GET", fmt.Sprint(at, "/entries?name=rare&at=", version), "")
			if a.code() != "too-old" {
				require.Len(t, a.json["entries"], 1, a.body)
			}
			require.NotEmpty(t, ask(t, "GET", at+"/history?limit=5", "").json["commits"])
		}
		select {
		case <-done:
			assert.Greater(t, n, 10)
			return
		default:
		}
	}
}
