//go:build pantrydebug

package debugview_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/debugview"
	"github.com/small-pantry/pantry/internal/test/browser"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/seal"
)

var (
	reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind")
	units        = pantry.OneOf("units", "metric", "imperial")
	gateCode     = pantry.Text("gate-code", "").Sealed()
)

// open returns an app's namespace and a view of it.
func open(t *testing.T, opts ...debugview.Option) (*pantry.Namespace, *debugview.View) {
	t.Helper()
	sealer, err := seal.AESGCM(make([]byte, 32))
	require.NoError(t, err)
	ns, err := pantry.Open(t.TempDir(), "plotbook", pantry.Declare(reminderHour, units, gateCode), pantry.Seal(sealer))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, ns.Close()) })
	v, err := debugview.Open(ns, opts...)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, v.Close()) })
	return ns, v
}

// ask asks with a token, or without.
func ask(t *testing.T, method, url, token, body string) (int, string) {
	t.Helper()
	rq, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if token != "" {
		rq.Header.Set("Authorization", "Bearer "+token)
	}
	rq.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(rq)
	require.NoError(t, err)
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	return resp.StatusCode, string(raw)
}

// apart returns the address of a link's calls, and its token.
func apart(link string) (calls, token string) {
	page, token, _ := strings.Cut(link, "#")
	return strings.Replace(page, "/boards/", "/v1/boards/", 1), token
}

// What is changed in the view is the app's at once, and the other way round.
func TestView(t *testing.T) {
	t.Parallel()
	ns, v := open(t)
	hour := reminderHour.In(ns)
	require.NoError(t, hour.Set(7))
	b, err := board.Join(v.Link())
	require.NoError(t, err)
	defer func() { assert.NoError(t, b.Close()) }()
	there := board.On(b, reminderHour)
	n, found, err := there.Lookup(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []any{7, true}, []any{n, found})

	ctx, stop := context.WithTimeout(t.Context(), hang.Patience)
	defer stop()
	for s := range there.Watch(ctx) { // what the app changes
		if s.Value == 10 {
			break
		}
		if s.Found {
			require.NoError(t, hour.Set(s.Value+1))
		}
	}
	assert.Equal(t, 10, there.Get())
	for at := range hour.Watch(ctx) { // and what is changed from outside
		if at == 6 {
			break
		}
		require.NoError(t, there.Set(t.Context(), 6))
	}
	assert.Equal(t, 6, hour.Get())
	err = there.Set(t.Context(), 30)
	assert.ErrorIs(t, err, pantry.ErrInvalid)
	calls, token := apart(v.Link())
	status, said := ask(t, "PUT", calls+"/entries/reminder-hour", token, "30")
	assert.Equal(t, 409, status, "the app's declaration applies to every caller: %s", said)
	status, said = ask(t, "GET", calls+"/keys", token, "")
	assert.Equal(t, 200, status)
	for _, part := range []string{`"reminder-hour"`, `"max":23`, `"choices":["metric","imperial"]`, `"when to remind"`} {
		assert.Contains(t, said, part)
	}
	status, said = ask(t, "GET", calls+"/history", token, "")
	assert.Equal(t, 200, status)
	assert.Contains(t, said, `"reminder-hour"`)
}

func TestNobodyElse(t *testing.T) {
	t.Parallel()
	ns, v := open(t)
	calls, token := apart(v.Link())
	require.Greater(t, len(token), 20)
	for _, other := range []string{"", "guess", token + "x", strings.ToUpper(token)} {
		status, _ := ask(t, "GET", calls+"/entries", other, "")
		assert.Equal(t, 401, status, other)
	}
	status, _ := ask(t, "DELETE", calls, token, "")
	assert.Equal(t, 403, status)
	status, _ = ask(t, "POST", strings.TrimSuffix(calls, "/plotbook"), token, `{"board":"other"}`)
	assert.NotEqual(t, 201, status)
	again, err := debugview.Open(ns)
	require.NoError(t, err)
	_, other := apart(again.Link())
	assert.NotEqual(t, token, other, "it is new each time")
	require.NoError(t, again.Close())
	require.NoError(t, again.Close())
	assert.Contains(t, v.Link(), "http://127.0.0.1:")
	require.NoError(t, v.Close())
	_, err = http.Get(calls)
	assert.Error(t, err, "it ends with Close")
	require.NoError(t, reminderHour.In(ns).Set(5), "and the app goes on")
}

// It listens where it is set to. On the network its address is one that others can use.
func TestWhere(t *testing.T) {
	t.Parallel()
	_, v := open(t, debugview.LAN())
	calls, token := apart(v.Link())
	status, _ := ask(t, "GET", calls+"/entries", token, "")
	assert.Equal(t, 200, status, v.Link())
	assert.NotContains(t, v.Link(), "//0.0.0.0")
	assert.NotContains(t, v.Link(), "[::]")
	_, v = open(t, debugview.Listen("localhost:0"))
	assert.Contains(t, v.Link(), "http://127.0.0.1:")
	ns, err := pantry.Open(t.TempDir(), "plotbook")
	require.NoError(t, err)
	defer func() { assert.NoError(t, ns.Close()) }()
	_, err = debugview.Open(ns, debugview.Listen("no address"))
	assert.Error(t, err)
	require.NoError(t, pantry.Int("n", 0).In(ns).Set(1), "and the app goes on")
}

// Sealed values stay sealed, and stay what they are.
func TestSealed(t *testing.T) {
	t.Parallel()
	ns, v := open(t)
	code := gateCode.In(ns)
	require.NoError(t, code.Set("a word that must stay secret"))
	calls, token := apart(v.Link())
	for _, path := range []string{"/entries", "/entries/gate-code", "/history"} {
		status, said := ask(t, "GET", calls+path, token, "")
		assert.Equal(t, 200, status, path)
		assert.NotContains(t, said, "must stay secret", path)
		assert.Contains(t, said, `"sealed"`, path)
	}
	for _, body := range []string{`"plain"`, `5`} {
		status, said := ask(t, "PUT", calls+"/entries/gate-code", token, body)
		assert.Equal(t, 409, status, said)
	}
	assert.Equal(t, "a word that must stay secret", code.Get())
	var e struct{ Kind string }
	_, said := ask(t, "GET", calls+"/entries/gate-code", token, "")
	require.NoError(t, json.Unmarshal([]byte(said), &e))
	assert.Equal(t, "sealed", e.Kind)
}

// The page shows the app's values, and follows them.
func TestPage(t *testing.T) {
	t.Parallel()
	ns, v := open(t)
	require.NoError(t, reminderHour.In(ns).Set(7))
	require.NoError(t, gateCode.In(ns).Set("a word that must stay secret"))
	p := browser.Start(t).Open(t, v.Link())
	p.Until(`document.body.innerText.includes("reminder-hour")`)
	require.NoError(t, reminderHour.In(ns).Set(21))
	p.Until(`[...document.querySelectorAll("[data-name]")].some(r => r.innerText.includes("reminder-hour") && r.innerText.includes("21"))`)
}
