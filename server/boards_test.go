package server_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// What is refused, and what changes nothing, makes no board.
func TestRefusedMakesNoBoard(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	for _, a := range []answer{
		ask(t, "PUT", at+"/entries/n", "1", "If-Match", `"1"`),
		ask(t, "PUT", at+"/entries/n", "null", "Content-Type", typeJSON),
		ask(t, "POST", at+"/entries/n", `{"op":"take","at":0}`),
		ask(t, "POST", at+"/entries/n", `{"op":"add","amount":9,"max":5}`),
		ask(t, "DELETE", at+"/entries/n", ""),
		ask(t, "DELETE", at+"/entries/n?forget=true", ""),
		ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"n","value":1},{"op":"drop","name":"m"}]}`),
		ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"n","value":1},{"op":"drop","name":"n"}]}`),
	} {
		assert.True(t, a.status >= 400 || a.json["version"] == json.Number("0"), a.body)
	}
	a := ask(t, "POST", at+"/commit", `{"ops":[{"op":"reset","prefix":""}]}`)
	assert.Equal(t, []any{200, json.Number("0"), a.json["since"]}, []any{a.status, a.json["version"], a.json["mark"]})
	assert.Empty(t, ask(t, "GET", base+"/v1/boards", "").json["boards"])
	// What an absent entry starts from is stored only where the operation is done.
	assert.Equal(t, json.Number("3"), ask(t, "POST", at+"/entries/frost", `{"op":"lower","to":3}`).json["value"], "lower starts from what it is lowered to")
}

// The facts of a board.
func TestFacts(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	a := ask(t, "GET", at, "")
	assert.Equal(t, []any{false, json.Number("0"), "own"}, []any{a.json["exists"], a.json["entries"], a.json["may"]})
	ask(t, "POST", at+"/commit", `{"ops":[{"op":"put","name":"a","value":"xy"},{"op":"put","name":"b","value":1},{"op":"drop","name":"b"},{"op":"put","name":"c","value":true}]}`)
	ask(t, "DELETE", at+"/entries/c", "")
	ask(t, "POST", at+"/keys", `{"keys":[{"name":"n","kind":"int"}],"closed":true}`)
	l := listen(t, at+"/events")
	l.next()
	a = ask(t, "GET", at, "")
	assert.Equal(t, []any{true, json.Number("1"), json.Number("5"), json.Number("1"), true, json.Number("1"), json.Number("3")},
		[]any{a.json["exists"], a.json["entries"], a.json["bytes"], a.json["keys"], a.json["closed"], a.json["watchers"], a.json["version"]}, a.body)
	assert.NotEqual(t, json.Number("0"), a.json["requests"])
}

// A board takes no more than it may.
func TestQuota(t *testing.T) {
	t.Parallel()
	base, _ := start(t, t.TempDir())
	at := base + "/v1/boards/b"
	for part := range 10 {
		var ops []string
		for i := range 1000 {
			ops = append(ops, fmt.Sprintf(`{"op":"put","name":"n%d","value":1}`, part*1000+i))
		}
		require.Equal(t, 200, ask(t, "POST", at+"/commit", `{"ops":[`+strings.Join(ops, ",")+`]}`).status)
	}
	a := ask(t, "PUT", at+"/entries/more", "1")
	assert.Equal(t, []any{409, "quota"}, []any{a.status, a.code()})
	assert.Equal(t, 200, ask(t, "PUT", at+"/entries/n1", "2").status, "what is there can be changed")
	assert.Equal(t, json.Number("1.000"), ask(t, "GET", at, "").json["near"])
	a = ask(t, "POST", at+"/commit", `{"ops":[{"op":"drop","name":"n1"},{"op":"put","name":"more","value":1}]}`)
	assert.Equal(t, 200, a.status, "and exchanged")
	large := strings.Repeat("x", 1<<20-2)
	for i := 0; ; i++ {
		a := ask(t, "PUT", fmt.Sprint(at, "/entries/n", 100+i, "?kind=text"), large, "Content-Type", "text/plain")
		if a.status != 200 {
			assert.Equal(t, "quota", a.code())
			assert.Equal(t, 31, i, "32 MiB with the names")
			break
		}
	}
}

// Several who make a board at the same time get the one, and none takes back the tokens that
// another has made for it since.
func TestBoardMadeByMany(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	for round := range 30 {
		board := fmt.Sprint("b", round)
		tokens := make([]string, 6)
		var all sync.WaitGroup
		for n := range tokens {
			all.Go(func() {
				s.as(s.admin, "POST", "/v1/boards", `{"board":"`+board+`"}`)
				tokens[n], _ = s.invite(s.admin, board, `{"may":"read"}`)
			})
		}
		all.Wait()
		for n, token := range tokens {
			assert.Equal(t, 200, s.as(token, "GET", "/v1/boards/"+board, "").status, "round %d, token %d", round, n)
		}
	}
}
