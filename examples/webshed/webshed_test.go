package webshed

import (
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/browser"
	"github.com/small-pantry/pantry/pantrytest"
	"github.com/small-pantry/pantry/server"
)

func ask(t *testing.T, token, method, address, body string) (answer map[string]any) {
	t.Helper()
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.Less(t, resp.StatusCode, 300, "%s", raw)
	_ = json.Unmarshal(raw, &answer)
	return answer
}

// The page is somebody else's, on another origin than the server, which takes tokens.
func TestFromAnotherOrigin(t *testing.T) {
	b := browser.Start(t)
	data := t.TempDir()
	s, err := server.New(server.Options{Data: data, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	web := httptest.NewServer(s)
	t.Cleanup(func() {
		web.CloseClientConnections()
		web.Close()
	})
	raw, err := os.ReadFile(filepath.Join(data, "admin-token"))
	require.NoError(t, err)
	admin := strings.TrimSpace(string(raw))
	board := web.URL + "/v1/boards/rowan-street"
	ask(t, admin, "POST", web.URL+"/v1/boards", `{"board":"rowan-street"}`)
	ask(t, admin, "POST", board+"/commit", `{"ops":[{"op":"put","name":"tank/litres","value":3200},{"op":"put","name":"gate/open","value":true},{"op":"put","name":"hose/queue","value":["C4","B2"]}]}`)
	token := ask(t, admin, "POST", board+"/tokens", `{"may":"add","label":"shed"}`)
	pages := httptest.NewServer(http.FileServer(http.Dir(".")))
	t.Cleanup(pages.Close)

	p := b.Open(t, pages.URL+"/index.html")
	p.Shows("The link to the board")
	p.Fill("#ask input", token["link"].(string))
	p.Click("#ask button")
	p.Shows("3200 litres in the tank", "The gate is open.", "At the hose: C4, then B2", "Live.")
	p.Click("#take")
	p.Shows("3190 litres in the tank")
	ask(t, admin, "POST", board+"/entries/tank/litres", `{"op":"add","amount":-3185}`)
	p.Shows("5 litres in the tank")
	p.Click("#take")
	p.Shows("Not taken:")
	assert.EqualValues(t, 5, ask(t, admin, "GET", board+"/entries/tank/litres", "")["value"])
	if dir := os.Getenv("SCREENSHOTS"); dir != "" {
		ask(t, admin, "PUT", board+"/entries/tank/litres", "3190")
		p.Shows("3190 litres in the tank")
		time.Sleep(time.Second) // the level has moved
		p.Shot(filepath.Join(dir, "webshed.png"))
	}
	p.Reload()
	p.Shows("Live.") // the link stays on the device
	ask(t, admin, "DELETE", board+"/tokens/"+token["id"].(string), "")
	p.Shows("This link is no longer valid.")
	for _, r := range p.Requests() {
		assert.NotContains(t, r, token["token"])
	}
}

// In development mode the page comes from another local port, and needs no token.
func TestInDevelopment(t *testing.T) {
	b := browser.Start(t)
	s := pantrytest.NewServer(t)
	pages := httptest.NewServer(http.FileServer(http.Dir(".")))
	t.Cleanup(pages.Close)
	p := b.Open(t, pages.URL+"/index.html#"+url.QueryEscape(s.Link("rowan-street")))
	p.Shows("0 litres in the tank", "The gate is shut.", "nobody")
	ask(t, "", "PUT", strings.Replace(s.Link("rowan-street"), "/boards/", "/v1/boards/", 1)+"/entries/tank/litres", "20")
	p.Shows("20 litres in the tank")
	s.Cut(true)
	p.Shows("No connection: this is what was there last.")
	p.Click("#take")
	p.Shows("No connection: what you took is kept, and counted later.", "20 litres in the tank")
	s.Cut(false)
	p.Shows("10 litres in the tank", "Live.")
}
