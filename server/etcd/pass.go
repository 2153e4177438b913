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

// hop are the headers for one connection only (RFC 9110, 7.6.1).
var hop = []string{"Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Transfer-Encoding", "Upgrade"}

// pass sends a request to the home of a board: see engine.Peers. A request with an idempotency key
// can arrive twice, so a slow home can be bypassed. Any other is sent elsewhere only if nothing of
// it was sent.
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
		return false, nil // the address is invalid, and nothing was sent
	}
	out.Header = r.Header.Clone()
	for _, name := range hop {
		out.Header.Del(name)
	}
	out.Host = r.Host // for the links that it makes
	out.Header.Set(headerHop, p.secret)
	out.Header.Set(headerFrom, r.RemoteAddr)
	resp, err := p.http.Do(out)
	if err != nil {
		if r.Context().Err() != nil {
			return false, r.Context().Err()
		}
		p.shun(home, err)
		if sent && !again {
			return false, fmt.Errorf("%w: the server that writes this board did not answer: %w", ledger.ErrUncertain, err)
		}
		return false, nil
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		p.shun(home, err)
		if !again {
			return false, fmt.Errorf("%w: the server that writes this board interrupted its answer: %w", ledger.ErrUncertain, err)
		}
		return false, nil
	}
	p.passed.add()
	p.answers(home)
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	for _, name := range hop {
		w.Header().Del(name)
	}
	w.WriteHeader(resp.StatusCode)
	_, _ = w.Write(answer) // an error of the connection is ignored: the client has gone
	return true, nil
}

// shun avoids a server that did not answer, for a while.
func (p *Peers) shun(home string, cause error) {
	p.refused.add()
	p.mu.Lock()
	s := p.shunned[home]
	first := s == nil
	if first {
		s = &shunned{pause: firstShun / 2}
		p.shunned[home] = s
	}
	s.pause = min(2*s.pause, longestShun)
	s.until = time.Now().Add(s.pause)
	p.mu.Unlock()
	if first {
		p.s.problem("", fmt.Errorf("the server %s, which writes boards, can't be reached from here, so that this server writes them itself: %w", home, cause))
	}
}

// answers ends the avoidance of a server.
func (p *Peers) answers(home string) {
	p.mu.RLock()
	shunned := p.shunned[home] != nil
	p.mu.RUnlock()
	if !shunned {
		return
	}
	p.mu.Lock()
	delete(p.shunned, home)
	p.mu.Unlock()
	p.s.problem("", fmt.Errorf("the server %s answers again", home))
}

// from returns the client of a request that another server passed on: see engine.Peers.
func (p *Peers) from(r *http.Request) string {
	shown, client := r.Header.Get(headerHop), r.Header.Get(headerFrom)
	r.Header.Del(headerHop)
	r.Header.Del(headerFrom)
	if subtle.ConstantTimeCompare([]byte(shown), []byte(p.secret)) != 1 {
		return ""
	}
	return client
}
