package demo

import (
	"errors"
	"net/http"
	"path/filepath"
	"sync/atomic"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// A tunnel is a network that can fail.
type tunnel struct{ inside atomic.Bool }

func (t *tunnel) RoundTrip(r *http.Request) (*http.Response, error) {
	if t.inside.Load() {
		return nil, errors.New("no network")
	}
	return http.DefaultTransport.RoundTrip(r)
}

// outage shows that changes made without a network are kept, also over a relaunch, and count once.
func (s *story) outage() error {
	s.scene("A tunnel: a phone takes water without a network, and its app is closed there")
	way := &tunnel{}
	open := func() (*board.Board, error) {
		return s.join("tankwatch", board.HTTPClient(&http.Client{Transport: way}), board.Offline(filepath.Join(s.dir, "offline")), board.OnProblem(func(pantry.Problem) {}))
	}
	phone, err := open()
	if err != nil {
		return err
	}
	tank := board.On(phone, tankLitres)
	shows(s.ctx, tank, s.afterRain())
	way.inside.Store(true)
	for range 2 {
		_, err = board.Add(s.ctx, tank, -10)
	}
	s.say("it takes 10 litres twice: %s", sentence(err))
	state := tank.State()
	s.say("it shows %d, %s, with %d changes waiting", state.Value, state.Phase, state.Queued)
	expect(s.teller, "what it shows, since nothing else is stored", state.Value, s.afterRain())
	if err := phone.Close(); err != nil {
		return err
	}
	if phone, err = open(); err != nil {
		return err
	}
	defer phone.Close()
	tank = board.On(phone, tankLitres)
	state = tank.State()
	s.say("closed and opened in there: it shows %d, %s, with %d changes waiting", state.Value, state.Phase, state.Queued)
	expect(s.teller, "what waits", state.Queued, 2)
	expect(s.teller, "what was known last", state.Value, s.afterRain())

	rain, err := s.join("rainlog")
	if err != nil {
		return err
	}
	defer rain.Close()
	if _, err := board.Add(s.ctx, board.On(rain, tankLitres), 20); err != nil {
		return err
	}
	way.inside.Store(false)
	state = shows(s.ctx, tank, s.afterRain())
	s.say("meanwhile it rained 20; outside again it shows %d, with %d waiting", state.Value, state.Queued)
	now, _, err := board.On(rain, tankLitres).Lookup(s.ctx)
	expect(s.teller, "what the board says, 20 less and 20 more", now, s.afterRain())
	expect(s.teller, "what waits", state.Queued, 0)
	return err
}
