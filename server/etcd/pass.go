package etcd

import (
	"bytes"
	"context"
	"crypto/subtle"
	"fmt"
	"io"
	"net/http"
	"net/http/httptrace"
	"time"

	"github.com/small-pantry/pantry/internal/ledger"
)

// hop is what has no meaning for anybody but the two ends of a connection (RFC 9110, 7.6.1).
var hop = []string{"Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade"}

// pass has the home of a board answer: see server.Peers. A request under a key may come
// twice, so that a home which is slow to answer can be passed by; any other only where
// nothing of it was sent.
func (p *Peers) pass(w http.ResponseWriter, r *http.Request, body []byte, home string) (answered bool, err error) {
	again := r.Header.Get("Idempotency-Key") != ""
	within := p.within
	if !again {
		within += p.longer
	}
	ctx, cancel := context.WithTimeout(r.Context(), within)
	defer cancel()
	sent := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { sent = true }})
	out, err := http.NewRequestWithContext(ctx, r.Method, home+r.URL.RequestURI(), bytes.NewReader(body))
	if err != nil {
		return false, nil // it is not an address, and nothing was sent
	}
	out.Header = r.Header.Clone()
	for _, name := range hop {
		out.Header.Del(name)
	}
	out.Host = r.Host // by which links are made
	out.Header.Set(headerHop, p.secret)
	out.Header.Set(headerFrom, r.RemoteAddr)
	resp, err := p.http.Do(out)
	if err != nil {
		if r.Context().Err() != nil {
			return false, r.Context().Err()
		}
		p.shun(home)
		if sent && !again {
			return false, fmt.Errorf("%w: the server that writes this board did not answer: %w", ledger.ErrUncertain, err)
		}
		return false, nil
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		p.shun(home)
		if !again {
			return false, fmt.Errorf("%w: the server that writes this board broke off: %w", ledger.ErrUncertain, err)
		}
		return false, nil
	}
	p.passed.add()
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	for _, name := range hop {
		w.Header().Del(name)
	}
	w.WriteHeader(resp.StatusCode)
	_, _ = w.Write(answer) // what can't be sent any more, the client does not want
	return true, nil
}

// shun has no server asked again for a while that did not answer.
func (p *Peers) shun(home string) {
	p.refused.add()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.avoid[home] = time.Now().Add(avoided)
}

// from says whose request it is that another server passed on: see server.Peers.
func (p *Peers) from(r *http.Request) string {
	shown, client := r.Header.Get(headerHop), r.Header.Get(headerFrom)
	r.Header.Del(headerHop)
	r.Header.Del(headerFrom)
	if subtle.ConstantTimeCompare([]byte(shown), []byte(p.secret)) != 1 {
		return ""
	}
	return client
}
