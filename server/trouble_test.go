package server_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// Trouble on demand.
func TestTrouble(t *testing.T) {
	t.Parallel()
	for s, want := range map[string]server.Trouble{
		"slow=20ms,cut=10%,garble=tank/litres": {Slow: 20 * time.Millisecond, Cut: 0.1, Garble: "tank/litres"},
		"cut=0.5":                              {Cut: 0.5},
	} {
		got, err := server.ParseTrouble(s)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, s := range []string{"", "slow", "slow=-1s", "slow=2h", "cut=101%", "cut=x", "garble=", "garble=a//b", "lag=2s"} {
		_, err := server.ParseTrouble(s)
		assert.Error(t, err, s)
	}
	const garbled = "\ufffd\ufffd garbled \ufffd\ufffd"
	base, stop := startWith(t, server.Options{Data: t.TempDir(), Dev: true, Trouble: server.Trouble{Slow: 20 * time.Millisecond, Garble: "n"}})
	at := base + "/v1/boards/b/entries"
	began := time.Now()
	assert.Equal(t, "text", ask(t, "PUT", at+"/n", "5").json["kind"])
	assert.GreaterOrEqual(t, time.Since(began), 20*time.Millisecond)
	assert.Equal(t, garbled, ask(t, "GET", at+"/n", "").json["value"])
	assert.Contains(t, ask(t, "GET", at, "").body, garbled)
	assert.Equal(t, json.Number("6"), ask(t, "POST", base+"/v1/boards/b/commit", `{"ops":[{"op":"add","name":"n","amount":1},{"op":"put","name":"m","value":6}]}`).json["entries"].([]any)[1].(map[string]any)["value"], "only what is told is garbled, and only that entry")
	stop()

	base, _ = startWith(t, server.Options{Data: t.TempDir(), Dev: true, Trouble: server.Trouble{Cut: 0.5}})
	done, lost := 0, 0
	for i := range 200 {
		req, err := http.NewRequestWithContext(t.Context(), "POST", base+"/v1/boards/b/entries/n", strings.NewReader(`{"op":"add","amount":1}`))
		require.NoError(t, err)
		req.Header.Set("Idempotency-Key", fmt.Sprint(i)) // which Go takes as a sign that it may repeat the request
		resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
		if err != nil {
			lost++
			continue
		}
		resp.Body.Close()
		done++
	}
	assert.Greater(t, done, 40)
	assert.Greater(t, lost, 40)
	var n int
	for n == 0 {
		resp, err := http.Get(base + "/v1/boards/b/entries/n")
		if err == nil {
			var e struct{ Value int }
			require.NoError(t, json.NewDecoder(resp.Body).Decode(&e))
			resp.Body.Close()
			n = e.Value
		}
	}
	assert.Greater(t, n, done, "some that were lost are done")
	assert.Less(t, n, 200, "and some are not")
}
