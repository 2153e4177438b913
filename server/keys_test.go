package server_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// codes are those of the findings in an answer, with their names.
func codes(a answer) string {
	var out []string
	for _, f := range a.json["findings"].([]any) {
		out = append(out, fmt.Sprint(f.(map[string]any)["code"], " ", f.(map[string]any)["name"]))
	}
	return strings.Join(out, ", ")
}

// The board knows the names that its apps agreed upon, and holds every write to them.
func TestKeys(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	base, stop := start(t, data)
	at := func(path string) string { return base + "/v1/boards/b" + path }
	declare := func(app, keys string) answer {
		return ask(t, "POST", at("/keys"), `{"keys":[`+keys+`]}`, "Client-Name", app)
	}
	assert.Empty(t, ask(t, "GET", at("/keys"), "").json["keys"])
	ask(t, "PUT", at("/entries/gate/opened"), "true")
	ask(t, "PUT", at("/entries/frost"), "cold")
	const litres = `{"name":"tank/litres","kind":"int","default":0,"min":0,"max":5000,"about":"rain water"}`
	a := declare("tankwatch", litres+`,{"name":"hose/queue","kind":"list","default":[],"keep":3},{"name":"watered","kind":"time","family":true},{"name":"units","kind":"text","default":"metric","choices":["metric","imperial"]}`)
	require.Equal(t, 200, a.status, a.body)
	assert.Empty(t, codes(a))
	a = declare("gatehouse", `{"name":"tank/litre","kind":"int"},{"name":"hose/queue","kind":"list","default":["A1"],"keep":3},
		{"name":"units","kind":"text","default":"metric"},{"name":"gate/open","kind":"bool"},{"name":"gate-token","kind":"text"},{"name":"frost","kind":"bool","default":false}`)
	assert.Equal(t, "near tank/litre, default hose/queue, rule units, secret gate-token, stored frost", codes(a))
	a = declare("display", `{"name":"tank/litres","kind":"float","default":0.0},{"name":"gate/open","kind":"bool"},{"name":"gate/opens","kind":"bool"}`)
	assert.Equal(t, "kind tank/litres", codes(a), "of names that are its own none is near another")
	assert.Contains(t, a.body, "tankwatch declared it as int", "the client that declared it otherwise is named")
	var names []string
	for _, k := range ask(t, "GET", at("/keys"), "").json["keys"].([]any) {
		k := k.(map[string]any)
		names = append(names, fmt.Sprint(k["name"], " ", k["kind"], " ", k["by"]))
	}
	assert.Equal(t, "gate-token text gatehouse, gate/open bool gatehouse, gate/opens bool display, hose/queue list tankwatch, tank/litre int gatehouse, tank/litres int tankwatch, units text tankwatch, watered time tankwatch", strings.Join(names, ", "), "one that is declared stays, and what is stored is not put in the wrong")

	for _, c := range []struct{ method, name, body, want string }{
		{"PUT", "tank/litres", "420", "int 420"},
		{"PUT", "tank/litres", "5.5", "wrong-kind"},
		{"PUT", "tank/litres", "5001", "out-of-range"},
		{"PUT", "tank/litres?kind=text", "full", "wrong-kind"},
		{"POST", "tank/litres", `{"op":"add","amount":5000}`, "out-of-range"},
		{"POST", "tank/litres", `{"op":"lower","to":-3}`, "out-of-range"},
		{"PUT", "hose/queue", `["A1","B2","C4","D5"]`, "list [B2 C4 D5]"},
		{"PUT", "units", "feet", "invalid"},
		{"PUT", "watered/C4", "2026-05-03T09:12:44Z", "time 2026-05-03T09:12:44Z"},
		{"PUT", "watered/B2", "yes", "wrong-kind"},
	} {
		a := ask(t, c.method, at("/entries/"+c.name), c.body)
		got := fmt.Sprint(a.code())
		if a.status < 300 {
			got = fmt.Sprint(a.json["kind"], " ", a.json["value"])
		}
		assert.Equal(t, c.want, got, "%+v: %s", c, a.body)
	}
	stop()
	base, _ = start(t, data)
	assert.Equal(t, "out-of-range", ask(t, "PUT", at("/entries/tank/litres"), "5001").code(), "also after a restart")

	// The owner may change, close and withdraw.
	a = ask(t, "POST", at("/keys"), `{"keys":[{"name":"tank/litres","kind":"int","default":0,"min":0,"max":9000}],"change":true,"closed":true}`)
	assert.Equal(t, []any{"rule tank/litres", true}, []any{codes(a), a.json["closed"]})
	assert.Equal(t, 200, ask(t, "PUT", at("/entries/tank/litres"), "5001").status)
	assert.Equal(t, "undeclared", ask(t, "PUT", at("/entries/misspelt"), "1").code())
	assert.Equal(t, "undeclared", ask(t, "POST", at("/commit"), `{"ops":[{"op":"add","name":"tank/litres","amount":1},{"op":"append","name":"misspelt","item":1}]}`).code())
	assert.Equal(t, 204, ask(t, "DELETE", at("/entries/frost"), "").status, "removing goes on")
	assert.Equal(t, 201, ask(t, "PUT", at("/entries/watered/B2"), "2026-05-03T09:12:44Z").status, "a family is anything in it")
	stop2 := ask(t, "POST", at("/keys"), `{"closed":false}`)
	assert.Equal(t, false, stop2.json["closed"])
	assert.Equal(t, 204, ask(t, "DELETE", at("/keys/tank/litre"), "").status)
	assert.Equal(t, "absent", ask(t, "DELETE", at("/keys/tank/litre"), "").code())
	assert.Equal(t, "absent", ask(t, "DELETE", base+"/v1/boards/none/keys/x", "").code())

	for body, about := range map[string]string{
		`{"keys":[{"name":"a//b","kind":"int"}]}`:                              "part",
		`{"keys":[{"name":"a","kind":"number"}]}`:                              "number",
		`{"keys":[{"name":"a"}]}`:                                              "kind",
		`{"keys":[{"name":"a","kind":"int","default":"x"}]}`:                   "",
		`{"keys":[{"name":"a","kind":"int","min":1}]}`:                         "one bound",
		`{"keys":[{"name":"a","kind":"int","min":2,"max":1}]}`:                 "from 2 to 1",
		`{"keys":[{"name":"a","kind":"text","min":1,"max":2}]}`:                "",
		`{"keys":[{"name":"a","kind":"int","default":9,"min":1,"max":2}]}`:     "default 9",
		`{"keys":[{"name":"a","kind":"int","keep":1}]}`:                        "keep",
		`{"keys":[{"name":"a","kind":"int","choices":["b"]}]}`:                 "choices",
		`{"keys":[{"name":"a","kind":"int","deflaut":1}]}`:                     "deflaut",
		`{"keys":[{"name":"a","kind":"int","gone":true}]}`:                     "gone",
		`{"keys":[{"name":"a","kind":"sealed"}]}`:                              "sealed",
		`{"keys":[{"name":"a","kind":"int"},{"name":"a","kind":"int"}]}`:       "twice",
		`{"keys":[{"name":"a","name":"b","kind":"int"}]}`:                      "name",
		`{"keys":[],"close":true}`:                                             "close",
		`{}`:                                                                   "is empty",
		`[]`:                                                                   "",
		`{"keys":[` + strings.Repeat(`{"name":"a","kind":"int"},`, 1001) + `]`: "",
	} {
		a := ask(t, "POST", base+"/v1/boards/none/keys", body)
		assert.Equal(t, "invalid", a.code(), body)
		assert.Contains(t, a.json["detail"], about, body)
	}
	boards := ask(t, "GET", base+"/v1/boards", "")
	assert.Len(t, boards.json["boards"], 1, "what is refused makes no board")
	assert.Equal(t, json.Number("0"), ask(t, "GET", base+"/v1/boards/none", "").json["version"])
}
