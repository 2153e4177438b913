package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
)

// A gardener makes a board, uses it, removes it and makes it again, while servers and nodes are killed. It asks
// a server after the other.
type gardener struct {
	r       *record
	client  *http.Client
	servers []string // URLs
	admin   string
	board   string
	n       int // of calls
	lives   int
}

// ask sends a request to the next server until one answers it: neither with 5xx nor not at all. It returns 0
// when ctx ends before.
func (g *gardener) ask(ctx context.Context, method, path, token, body string) (status int, answer []byte) {
	for ctx.Err() == nil {
		g.n++
		status, answer = g.send(ctx, g.servers[g.n%len(g.servers)], method, path, token, body)
		if status > 0 && status < 500 && status != http.StatusTooManyRequests {
			return status, answer
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
		}
	}
	return 0, nil
}

func (g *gardener) send(ctx context.Context, server, method, path, token, body string) (status int, answer []byte) {
	ctx, cancel := context.WithTimeout(ctx, hang.Patience)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, server+path, bytes.NewReader([]byte(body)))
	if err != nil {
		return 0, nil
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := g.client.Do(req)
	if err != nil {
		return 0, nil
	}
	defer resp.Body.Close()
	if answer, err = io.ReadAll(resp.Body); err != nil {
		return 0, nil
	}
	return resp.StatusCode, answer
}

// work goes on until ctx ends.
func (g *gardener) work(ctx context.Context) {
	at := "/v1/boards/" + g.board
	earlier := ""
	for ctx.Err() == nil {
		expect := func(what, method, path, token, body string, statuses ...int) (answer []byte) {
			status, answer := g.ask(ctx, method, path, token, body)
			for _, s := range append(statuses, 0) {
				if status == s {
					return answer
				}
			}
			g.r.bad("life %d of %s: %s was answered %d %s", g.lives, g.board, what, status, answer)
			return answer
		}
		g.lives++
		expect("its creation", "POST", "/v1/boards", g.admin, fmt.Sprintf(`{"board":%q}`, g.board), 200, 201)
		raw := expect("a link", "POST", at+"/tokens", g.admin, `{"may":"own"}`, 201)
		var made struct{ Token string }
		if err := json.Unmarshal(raw, &made); ctx.Err() == nil && err != nil {
			g.r.bad("life %d of %s: %v", g.lives, g.board, err)
		}
		if earlier != "" {
			expect("the link of an earlier life", "GET", at+"/entries", earlier, "", 401)
		}
		expect("an absent value", "GET", at+"/entries/life", made.Token, "", 404)
		expect("a value", "PUT", at+"/entries/life", made.Token, fmt.Sprint(g.lives), 200, 201)
		for range g.servers {
			raw = expect("its reading", "GET", at+"/entries/life", made.Token, "", 200)
			var entry struct{ Value int }
			if err := json.Unmarshal(raw, &entry); ctx.Err() == nil && (err != nil || entry.Value != g.lives) {
				g.r.bad("life %d of %s: it holds %s", g.lives, g.board, raw)
			}
		}
		expect("its removal", "DELETE", at, g.admin, "", 204, 404)
		expect("its link after that", "GET", at+"/entries/life", made.Token, "", 401)
		earlier = made.Token
	}
}
