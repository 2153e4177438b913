package demo

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

// The keys that the apps of the garden share.
var tankLitres = pantry.Int("tank/litres", 0).Between(0, 5000).About("in the rain tank")

func at(hour int, bed string) string { return fmt.Sprintf("%d:00, bed %s", hour, bed) }

// join joins the board as a running app.
func (s *story) join(app string, opts ...board.Option) (*board.Board, error) {
	opts = append([]board.Option{board.ClientName(app), board.Poll(100*time.Millisecond, 400*time.Millisecond)}, opts...)
	return board.Join(s.link, opts...)
}

// soon is how long the story waits for a change that should come at once.
const soon = 5 * time.Second

// shows waits until a variable shows a value, and returns its state.
func shows[T comparable](ctx context.Context, v board.Var[T], want T) board.State[T] {
	ctx, cancel := context.WithTimeout(ctx, soon)
	defer cancel()
	for state := range v.Watch(ctx) {
		if state.Phase == board.Current && state.Value == want {
			return state
		}
	}
	return v.State()
}

func (s *story) unknownName() error {
	s.scene("A phone asks the board for a name that was never written")
	b, err := s.join("tankwatch")
	if err != nil {
		return err
	}
	defer b.Close()
	tank := board.On(b, tankLitres)
	litres, found, err := tank.Lookup(s.ctx)
	if err != nil {
		return err
	}
	s.say("nothing is stored under tank/litres, so the app shows its default, %d", litres)
	expect(s.teller, "found", found, false)
	if err := tank.Set(s.ctx, s.Tank); err != nil {
		return err
	}
	litres, found, err = tank.Lookup(s.ctx)
	s.say("it stores %d, and reads back %d", s.Tank, litres)
	expect(s.teller, "tank/litres", litres, s.Tank)
	expect(s.teller, "found now", found, true)
	return err
}

func (s *story) shareTheTank() error {
	s.scene("A second phone and the display in the shed join the board")
	for _, app := range []string{"tankwatch on the second phone", "the display in the shed"} {
		b, err := s.join(app)
		if err != nil {
			return err
		}
		state := shows(s.ctx, board.On(b, tankLitres), s.Tank)
		s.say("%-30s shows %d litres, %s, by %s", app, state.Value, state.Phase, state.By)
		expect(s.teller, "what it shows", state.Value, s.Tank)
		if err := b.Close(); err != nil {
			return err
		}
	}
	return nil
}

func (s *story) takeWater() error {
	s.scene("Two phones count at once: both take water from the tank")
	s.say("each takes %d cans of %d litres, as fast as it can", s.Cans.Each, s.Cans.Litres)
	var all sync.WaitGroup
	failed := make([]error, len(s.Phones))
	for i, phone := range s.Phones {
		all.Go(func() {
			b, err := s.join(phone)
			if err != nil {
				failed[i] = err
				return
			}
			defer b.Close()
			tank := board.On(b, tankLitres)
			for range s.Cans.Each {
				if _, err := board.Add(s.ctx, tank, -s.Cans.Litres); err != nil {
					failed[i] = err
					return
				}
			}
		})
	}
	all.Wait()
	if err := errors.Join(failed...); err != nil {
		return err
	}
	b, err := s.join("tankwatch")
	if err != nil {
		return err
	}
	defer b.Close()
	left, _, err := board.On(b, tankLitres).Lookup(s.ctx)
	want := s.left()
	s.say("%d - %d x %d x %d = %d, and the board has %d", s.Tank, len(s.Phones), s.Cans.Each, s.Cans.Litres, want, left)
	expect(s.teller, "what is left", left, want)
	return err
}

// left returns how much the phones leave in the tank.
func (s *story) left() int { return s.Tank - len(s.Phones)*s.Cans.Each*s.Cans.Litres }

// afterRain returns how much is in it after the rain so far.
func (s *story) afterRain() int { return s.left() + s.rain }

func (s *story) poll() error {
	s.scene("The display asks again and again, and mostly hears that nothing is new")
	display, err := s.join("display", board.WithoutPush())
	if err != nil {
		return err
	}
	defer display.Close()
	tank := board.On(display, tankLitres)
	shows(s.ctx, tank, s.left())
	for display.Status().NotModified < 4 && s.ctx.Err() == nil {
		if err := sleep(s.ctx, 50*time.Millisecond); err != nil {
			return err
		}
	}
	phone, err := s.join("tankwatch")
	if err != nil {
		return err
	}
	defer phone.Close()
	start := time.Now()
	now, err := board.Add(s.ctx, board.On(phone, tankLitres), 30)
	if err != nil {
		return err
	}
	s.rain += 30
	state := shows(s.ctx, tank, now)
	took := time.Since(start)
	status := display.Status()
	s.say("rain: a phone adds 30, and the display shows %d, by %s, after %d ms", state.Value, state.By, took.Milliseconds())
	expect(s.teller, "whether it was the display's own doing", state.Mine, false)
	s.say("it has polled %d times, and %d polls were answered 304, without a body", status.Polls, status.NotModified)
	expect(s.teller, "what the display shows", state.Value, s.left()+30)
	expect(s.teller, "whether most polls found nothing new", status.NotModified*2 > status.Polls, true)
	return nil
}

// push shows that a display with a stream does not poll.
func (s *story) push() error {
	s.scene("Another display has changes pushed instead, as they happen")
	display, err := s.join("display")
	if err != nil {
		return err
	}
	defer display.Close()
	tank := board.On(display, tankLitres)
	shows(s.ctx, tank, s.left()+30)
	for display.Status().Pushed == 0 && s.ctx.Err() == nil { // until its stream is open
		if err := sleep(s.ctx, 5*time.Millisecond); err != nil {
			return err
		}
	}
	asked := display.Status().Polls
	phone, err := s.join("tankwatch")
	if err != nil {
		return err
	}
	defer phone.Close()
	start := time.Now()
	now, err := board.Add(s.ctx, board.On(phone, tankLitres), 20)
	if err != nil {
		return err
	}
	s.rain += 20
	state := shows(s.ctx, tank, now)
	s.say("rain again: it shows %d, after %d ms, without a request", state.Value, time.Since(start).Milliseconds())
	expect(s.teller, "what the display shows", state.Value, s.afterRain())
	expect(s.teller, "how often it has polled since", display.Status().Polls, asked)
	return nil
}

// agree shows that the board knows the names that its apps use.
func (s *story) agree() error {
	s.scene("The apps tell the board which names they use, and a slip is found")
	tankwatch, err := s.join("tankwatch")
	if err != nil {
		return err
	}
	defer tankwatch.Close()
	if _, err := tankwatch.DeclareKeys(s.ctx, tankLitres, gateOpen); err != nil {
		return err
	}
	rainlog, err := s.join("rainlog")
	if err != nil {
		return err
	}
	defer rainlog.Close()
	slip := pantry.Int("tank/litre", 0) //pantry:meant the board finds it
	findings, err := rainlog.DeclareKeys(s.ctx, slip)
	if err != nil {
		return err
	}
	for _, f := range findings {
		s.say("the board says: %s", f.Sentence)
	}
	expect(s.teller, "findings", len(findings), 1)
	if err := rainlog.WithdrawKey(s.ctx, slip.Name()); err != nil {
		return err
	}
	_, err = rainlog.Put(s.ctx, tankLitres.Name(), value.Int(6000))
	s.say("it stores 6000: %s", sentence(err))
	expect(s.teller, "refused as out of range", errors.Is(err, value.ErrOutOfRange), true)
	if _, err := tankwatch.CloseKeys(s.ctx); err != nil {
		return err
	}
	err = board.On(rainlog, slip).Set(s.ctx, 1)
	s.say("only declared names are accepted, and it stores one more: %s", sentence(err))
	expect(s.teller, "refused as undeclared", errors.Is(err, board.ErrUndeclared), true)
	return nil
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (s *story) wrongKind() error {
	s.scene("A second app means something else by the same name")
	b, err := s.join("rainlog")
	if err != nil {
		return err
	}
	defer b.Close()
	tankwatch, err := s.join("tankwatch")
	if err != nil {
		return err
	}
	defer tankwatch.Close()
	if _, err := tankwatch.DeclareKeys(s.ctx, tankLitres); err != nil { // as an app does when it is opened
		return err
	}
	words := board.On(b, pantry.Text("tank/litres", "unknown")) //pantry:meant another app declares it too
	err = words.Set(s.ctx, "plenty")
	s.say("it stores a text: %s", sentence(err))
	expect(s.teller, "refused as the wrong kind", errors.Is(err, pantry.ErrWrongKind), true)
	_, found, err := words.Lookup(s.ctx)
	s.say("it reads a text: %s", sentence(err))
	expect(s.teller, "named as the wrong kind", found && errors.Is(err, pantry.ErrWrongKind), true)
	litres, _, err := board.On(b, tankLitres).Lookup(s.ctx)
	s.say("tank/litres is still %d", litres)
	expect(s.teller, "tank/litres", litres, s.afterRain())
	return err
}
