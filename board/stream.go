package board

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/wire"
)

const (
	// silence is the time without a byte after which a stream is given up: a server sends a comment
	// every 15 s.
	silence = 40 * time.Second
	// again is the time within which a server whose stream ended is asked for its state.
	again = 500 * time.Millisecond
	// soon is the time within which a stream that ends was cut by something on the network path,
	// which will do so again.
	soon = 10 * time.Second
)

// byStream receives what the server pushes (Server-Sent Events, WHATWG HTML 9.2).
type byStream struct{}

func (byStream) name() string { return "push" }

// follow receives changes until the stream ends, the board is closed or paused, or something else
// must be requested.
func (s byStream) follow(p *poller) (atOnce bool) {
	ctx, done := p.untilKicked()
	defer done()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := p.view.question()
	if asked.nothing() {
		return false
	}
	a := asked.asking
	query, _ := p.query(asked)
	from := time.Now()
	quiet := time.AfterFunc(p.opts.timeout, cancel) // the server sends something at once
	defer quiet.Stop()
	resp, err := p.conn.request(ctx, request{op: "watch", method: http.MethodGet, path: "/events", query: query})
	if err != nil {
		if ctx.Err() != nil && p.ctx.Err() == nil && len(p.kick) == 0 { // quiet ended it
			return s.heldBack(p)
		}
		return s.failed(p)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK || !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		return s.notNow(p)
	}
	worked := false
	in := events{in: bufio.NewReaderSize(resp.Body, 64<<10), heard: func() { quiet.Reset(silence) }, moved: func(id string) { p.movedTo(a, id) }}
	for {
		page, err := in.page(p.conn)
		if err == nil {
			if worked, err = true, p.pushed(a, page); err == nil {
				continue
			}
		}
		switch {
		case p.ctx.Err() != nil, len(p.kick) > 0:
			return true
		case errors.Is(err, errReopen) && len(a.since) == 0:
			return true // the current state has arrived; now the changes
		case ctx.Err() != nil: // nothing came for too long
			return s.heldBack(p)
		case !worked:
			return s.notNow(p)
		}
		s.ended(p, time.Since(from), err)
		select { // many phones don't come back in step
		case <-time.After(rand.N(again)):
		case <-p.ctx.Done():
		}
		byPoll{}.follow(p) // is the server there?
		return true
	}
}

// heldBack records that something on the way holds a stream back, and finds out whether the server is
// there.
func (s byStream) heldBack(p *poller) (atOnce bool) {
	s.notNow(p)
	return byPoll{}.follow(p)
}

// failed finds out whether the server is there after the request for a stream broke off. One broken
// connection is no outage, so only the poll reports one.
func (s byStream) failed(p *poller) (atOnce bool) {
	if p.ctx.Err() != nil || len(p.kick) > 0 {
		return true
	}
	if _, _, err := p.pollOnce(p.ctx, byPoll{}, 0); err != nil {
		return false
	}
	s.ended(p, 0, io.EOF) // the server is there, so the connection was cut
	return true
}

// notNow makes the board try another source at once, and a stream after a while.
func (s byStream) notNow(p *poller) (atOnce bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.transports.streamAt = p.transportFails(&p.transports.noStreams, "streams do not come through on this network, so that changes arrive by requests that wait")
	return true
}

// ended records that a stream ended. One that ends soon, again and again, is tried less and less
// often.
func (s byStream) ended(p *poller, lived time.Duration, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if errors.As(err, new(*Error)) { // one broken connection is no outage: the poll that follows reports one
		p.answered(s.name(), p.conn.fail("watch", "", err))
	}
	if p.transports.cut++; lived > soon {
		p.transports.cut = 0
	}
	if p.transports.cut > 1 {
		p.transports.streamAt = time.Now().Add(min(time.Second<<min(p.transports.cut, 6), tryAgain))
	}
}

// errReopen means that the question of the stream is out of date.
var errReopen = errors.New("something else is requested")

// pushed updates the view with an event.
func (p *poller) pushed(a asking, page *wire.Page) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.paused {
		return errReopen // it comes again after the pause
	}
	got, err := p.view.take(a, page)
	if err != nil {
		return unexpected(err)
	}
	p.report.nearNames(page.Findings)
	p.transports.noStreams, p.status.Trouble = 0, ""
	if got.fresh {
		p.status.Pushed++
		p.status.Version = page.Version
		p.transports.news = time.Now()
		p.answered(byStream{}.name(), nil)
	}
	// After a whole answer, this stream's events belong to an older question; and an event that
	// came too late is not repeated on this stream.
	if !got.fresh || !got.same {
		return errReopen
	}
	return nil
}

// movedTo applies a mark that came alone: since the last event only other names have changed.
func (p *poller) movedTo(a asking, id string) {
	now, err := mark.Parse(id)
	if err != nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.paused && p.view.moved(a, now) {
		p.status.Version = now.Version
	}
}

// events reads pages from a stream.
type events struct {
	in    *bufio.Reader
	heard func()
	moved func(id string) // called for an id without data
}

// page returns the next page, with those that belong to it.
func (e *events) page(c *connection) (*wire.Page, error) {
	var whole *wire.Page
	for {
		data, err := e.next()
		if err != nil {
			return nil, err
		}
		page, err := c.readPage(data)
		if err != nil {
			return nil, err
		}
		if whole == nil {
			whole = page
		} else {
			whole.Entries = append(whole.Entries, page.Entries...)
			whole.Gone = append(whole.Gone, page.Gone...)
		}
		if page.Next == "" {
			return whole, nil
		}
	}
}

// next returns the data of the next event.
func (e *events) next() ([]byte, error) {
	var data []byte
	id := ""
	for {
		var line []byte
		for {
			part, err := e.in.ReadSlice('\n')
			if line = append(line, part...); len(line) > maxAnswer {
				return nil, unexpected(fmt.Errorf("an event is over %d bytes", maxAnswer))
			}
			if err == nil {
				break
			}
			if err != bufio.ErrBufferFull {
				return nil, err
			}
		}
		e.heard()
		line = bytes.TrimRight(line, "\r\n")
		field, value, _ := bytes.Cut(line, []byte(":"))
		switch {
		case len(line) == 0 && data != nil:
			return data, nil
		case len(line) == 0 && id != "":
			e.moved(id)
			id = ""
		case string(field) == "id":
			id = string(bytes.TrimPrefix(value, []byte(" ")))
		case string(field) == "data":
			if data != nil {
				data = append(data, '\n')
			}
			if data = append(data, bytes.TrimPrefix(value, []byte(" "))...); len(data) > maxAnswer {
				return nil, unexpected(fmt.Errorf("an event is over %d bytes", maxAnswer))
			}
		}
	}
}
