package webshed

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/browser"
	_ "github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/pantrytest/boardtest"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

var (
	litres = pantry.Int("tank/litres", 0)
	gate   = pantry.Bool("gate/open", false)
	hose   = pantry.List[string]("hose/queue")
)

func TestMain(m *testing.M) { os.Exit(browser.Main(m)) }

// pages serves the page from an origin of its own.
func pages(t *testing.T) string {
	mux := http.NewServeMux()
	mux.Handle("/", http.FileServer(http.Dir(".")))
	mux.HandleFunc("/small-pantry.js", func(w http.ResponseWriter, r *http.Request) { http.ServeFile(w, r, "../../js/small-pantry.js") })
	web := httptest.NewServer(mux)
	t.Cleanup(web.Close)
	return web.URL + "/index.html"
}

func join(t *testing.T, link string) *board.Board {
	b, err := board.Join(link)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	return b
}

// The page is somebody else's, on another origin than the server, which takes tokens.
func TestFromAnotherOrigin(t *testing.T) {
	chromium := browser.Start(t)
	web := httptest.NewUnstartedServer(nil)
	s, err := server.New(server.Options{Data: t.TempDir(), Public: "http://" + web.Listener.Addr().String(), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	web.Config.Handler = s
	web.Start()
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		web.CloseClientConnections()
		web.Close()
	})
	link, _, err := s.OwnerLink(t.Context(), "rowan-street")
	require.NoError(t, err)
	owner := join(t, link)
	tank := board.On(owner, litres)
	_, err = owner.Commit(t.Context(), board.OpPut(tank, 3200), board.OpPut(board.On(owner, gate), true), board.OpPut(board.On(owner, hose), []string{"C4", "B2"}))
	require.NoError(t, err)
	shed, err := owner.Invite(t.Context(), board.Invitation{May: "add", Label: "shed"})
	require.NoError(t, err)

	p := chromium.Open(t, pages(t))
	p.Shows("The link to the board")
	p.Fill("#ask input", shed.Link)
	p.Click("#ask button")
	p.Shows("3200 litres in the tank", "The gate is open.", "At the hose: C4, then B2", "Live.")
	p.Click("#take")
	p.Shows("3190 litres in the tank")
	if dir := os.Getenv("SCREENSHOTS"); dir != "" {
		time.Sleep(time.Second) // the level has moved
		p.Shot(filepath.Join(dir, "webshed.png"))
	}
	require.NoError(t, tank.Set(t.Context(), 5))
	p.Shows("5 litres in the tank")
	p.Click("#take")
	p.Shows("Not taken:")
	now, _, err := tank.Lookup(t.Context())
	assert.Equal(t, []any{5, nil}, []any{now, err})
	p.Reload()
	p.Shows("Live.") // the link stays on the device
	require.NoError(t, owner.Revoke(t.Context(), shed.ID))
	p.Shows("This link is no longer valid.")
	for _, r := range p.Requests() {
		assert.NotContains(t, r, shed.Token)
	}
}

// In development mode the page comes from another local port, and needs no token.
func TestInDevelopment(t *testing.T) {
	t.Parallel()
	chromium := browser.Start(t)
	s := boardtest.NewServer(t)
	p := chromium.Open(t, pages(t)+"#"+url.QueryEscape(s.Link("rowan-street")))
	p.Shows("This link leads to another server") // which anybody can have sent
	p.Click("#ask button")
	p.Shows("0 litres in the tank", "The gate is shut.", "no one")
	_, err := join(t, s.Link("rowan-street")).Put(t.Context(), litres.Name(), value.Int(20))
	require.NoError(t, err)
	p.Shows("20 litres in the tank")
	s.Cut()
	p.Shows("No connection: this is what was there last.")
	p.Click("#take")
	p.Shows("No connection: what you took is kept, and counted later.", "20 litres in the tank")
	s.Connect()
	p.Shows("10 litres in the tank", "Live.")
}
