package server

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/value"
)

// Trouble imitates a bad network, to see what an app does then. The zero Trouble is none.
type Trouble struct {
	Slow   time.Duration // the delay of each answer
	Cut    float64       // the share of answers that never arrive, from 0 to 1: half of these calls are done and half are not
	Garble string        // the entry whose answer is an unexpected text
}

// ParseTrouble reads a description such as slow=2s,cut=10%,garble=tank/litres.
func ParseTrouble(s string) (t Trouble, err error) {
	for part := range strings.SplitSeq(s, ",") {
		what, how, _ := strings.Cut(part, "=")
		switch what {
		case "slow":
			if t.Slow, err = time.ParseDuration(how); err == nil && (t.Slow < 0 || t.Slow > time.Minute) {
				err = fmt.Errorf("%q is not from 0 to 60 s", how)
			}
		case "cut":
			share, percent := strings.CutSuffix(how, "%")
			if t.Cut, err = strconv.ParseFloat(share, 64); percent {
				t.Cut /= 100
			}
			if err == nil && !(t.Cut >= 0 && t.Cut <= 1) {
				err = fmt.Errorf("%q is not from 0%% to 100%%", how)
			}
		case "garble":
			t.Garble = how
			err = entry.CheckName(how)
		default:
			err = fmt.Errorf("there is no trouble %q; there is slow=2s, cut=10%%, garble=NAME", what)
		}
		if err != nil {
			return Trouble{}, err
		}
	}
	return t, nil
}

// garbled is the text that a garbled entry is answered with.
const garbled = "\ufffd\ufffd garbled \ufffd\ufffd"

// entry garbles an entry if it is the selected one.
func (t Trouble) entry(e entry.Entry) entry.Entry {
	if t.Garble != "" && e.Name == t.Garble && !e.Value.IsZero() {
		e.Value = value.Text(garbled)
	}
	return e
}

// page garbles an entry of a page.
func (t Trouble) page(p *rules.Page) {
	for i, e := range p.Entries {
		p.Entries[i] = t.entry(e)
	}
}

// meet applies the trouble to a call: a delay, a call that is never done, or a lost answer.
func (t Trouble) meet(c *call) {
	if !strings.HasPrefix(c.r.URL.Path, "/v1/") {
		return
	}
	if t.Slow > 0 {
		select {
		case <-time.After(t.Slow):
		case <-c.r.Context().Done():
		case <-c.s.stopping:
		}
	}
	if !t.cuts() {
		return
	}
	if rand.N(2) == 0 {
		panic(http.ErrAbortHandler)
	}
	c.w.ResponseWriter = lost{c.w.ResponseWriter}
}

// lost reports whether the call's answer is lost.
func (c *call) lost() bool {
	_, is := c.w.ResponseWriter.(lost)
	return is
}

// cuts reports whether an answer is cut.
func (t Trouble) cuts() bool { return t.Cut > 0 && rand.Float64() < t.Cut }

// lost is a ResponseWriter whose output never arrives.
type lost struct{ http.ResponseWriter }

func (lost) WriteHeader(int)             {}
func (lost) Write(b []byte) (int, error) { return len(b), nil }
func (lost) FlushError() error           { return http.ErrAbortHandler }

// Unwrap lets http.ResponseController reach the connection.
func (l lost) Unwrap() http.ResponseWriter { return l.ResponseWriter }
