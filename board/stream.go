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
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/wire"
)

const (
	// silence is after how long without a byte a stream is given up: a server says
	// something every 15 s.
	silence = 40 * time.Second
	// again is within which time a server whose stream ended is asked how it is.
	again = 500 * time.Millisecond
)

// stream takes in what the server pushes (Server-Sent Events, WHATWG HTML 9.2) until
// the stream ends, the board is closed or paused, or something else is to be asked
// for. It says whether it is to be opened again at once; where not, a poll is next,
// which finds out how the server is.
func (b *Board) stream() (atOnce bool) {
	ctx, cancel := context.WithCancel(b.ctx)
	var done sync.WaitGroup
	done.Go(func() { // a call for a poll is one for another stream
		select {
		case <-b.kick:
			b.pollNow() // whose turn is next
			cancel()
		case <-ctx.Done():
		}
	})
	defer done.Wait()
	defer cancel()
	query, a, _, nothing := b.question()
	if nothing {
		return false
	}
	watchdog := time.AfterFunc(silence, cancel)
	defer watchdog.Stop()
	resp, err := b.request(ctx, request{op: "watch", method: http.MethodGet, path: "/events", query: query})
	if err != nil {
		return false
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK || !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		return false
	}
	worked := false
	in := events{in: bufio.NewReaderSize(resp.Body, 64<<10), heard: func() { watchdog.Reset(silence) }}
	for {
		page, err := in.page(b)
		if err == nil {
			if worked, err = true, b.pushed(a, page); err == nil {
				continue
			}
		}
		switch {
		case b.ctx.Err() != nil, ctx.Err() != nil && len(b.kick) > 0:
			return true
		case errors.Is(err, errReopen) && len(a.since) == 0:
			return true // what was there is taken in; now what changes
		case !worked:
			return false
		case ctx.Err() != nil:
			err = fmt.Errorf("nothing came for %v", silence)
		}
		b.mu.Lock()
		if !errors.Is(err, io.EOF) && !errors.Is(err, errReopen) { // a server that stops ends its streams
			b.answered(b.fail("watch", "", b.unreachable(err)))
		}
		b.streamAt = time.Time{}
		b.mu.Unlock()
		select { // many phones don't come back in step
		case <-time.After(rand.N(again)):
		case <-b.kick:
			b.pollNow()
		case <-b.ctx.Done():
		}
		return false
	}
}

// mayStream says whether a stream is to be tried: not in each turn where there is none,
// and not before there is something to ask for.
func (b *Board) mayStream() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if nothing := !b.view.all && len(b.nodes) == 0; nothing || !b.opts.push || time.Now().Before(b.streamAt) {
		return false
	}
	b.streamAt = time.Now().Add(b.opts.slow)
	return true
}

// errReopen says that a stream was asked for by a question that means nothing any more.
var errReopen = errors.New("something else is asked for")

// pushed takes in what a stream told.
func (b *Board) pushed(a asking, page *wire.Page) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	_, fresh, err := b.take(a, page)
	if err != nil {
		return unexpected(err)
	}
	if fresh {
		b.status.Pushed++
		b.status.Version = page.Version
		b.answered(nil)
	}
	if b.view.epoch != a.epoch { // a whole was taken in: what comes on this stream was asked for before
		return errReopen
	}
	return nil
}

// events reads pages from a stream.
type events struct {
	in    *bufio.Reader
	heard func()
}

// page gives the next page, with those that belong to it.
func (e *events) page(b *Board) (*wire.Page, error) {
	var whole *wire.Page
	for {
		data, err := e.next()
		if err != nil {
			return nil, err
		}
		page, err := b.readPage(data)
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

// next gives the data of the next event.
func (e *events) next() ([]byte, error) {
	var data []byte
	for {
		var line []byte
		for {
			part, err := e.in.ReadSlice('\n')
			if line = append(line, part...); len(line) > maxAnswer {
				return nil, fmt.Errorf("an event is over %d bytes", maxAnswer)
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
		case string(field) == "data":
			if data != nil {
				data = append(data, '\n')
			}
			if data = append(data, bytes.TrimPrefix(value, []byte(" "))...); len(data) > maxAnswer {
				return nil, fmt.Errorf("an event is over %d bytes", maxAnswer)
			}
		}
	}
}
