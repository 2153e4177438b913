package board_test

import (
	"context"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net/http/httptest"
	"os"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
)

// TankLitres is declared once, for all apps that use it.
var TankLitres = pantry.Int("tank/litres", 0).Between(0, 5000).About("in the rain tank")

// Two phones share the water of one tank. The first shows what is in it, also after the other takes some.
func Example() {
	link, stop := serve() // smallpantry serve --board rowan-street prints one
	defer stop()
	ctx := context.Background()

	one, err := board.Join(link, board.ClientName("tankwatch"), board.Declare(TankLitres))
	if err != nil {
		log.Fatal(err)
	}
	defer one.Close()
	tank := board.On(one, TankLitres)
	if err := tank.Set(ctx, 420); err != nil {
		log.Fatal(err)
	}

	two, err := board.Join(link, board.ClientName("rainlog"))
	if err != nil {
		log.Fatal(err)
	}
	defer two.Close()
	if _, err := board.Add(ctx, board.On(two, TankLitres), -10); err != nil {
		log.Fatal(err)
	}

	for s := range tank.Watch(ctx) { // now, and after each change
		if s.Value == 410 { // earlier values can be skipped
			fmt.Println(s.Value, "litres, by", s.By)
			break
		}
	}
	// Output:
	// 410 litres, by owner (rainlog)
}

// Phones of three versions use a board while a name changes: from hour to reminder-hour.
func ExampleBoard_WithdrawKey() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	old, renamed := pantry.Int("hour", 18), pantry.Int("reminder-hour", 18)
	phone := func(keys ...pantry.AnyKey) *board.Board {
		b, err := board.Join(link, board.Declare(keys...))
		if err != nil {
			log.Fatal(err)
		}
		return b
	}
	set := func(b *board.Board, hour int, keys ...pantry.Key[int]) {
		for _, k := range keys {
			if err := board.On(b, k).Set(ctx, hour); err != nil {
				log.Fatal(err)
			}
		}
	}
	shows := func(b *board.Board, k pantry.Key[int]) {
		hour, _, err := board.On(b, k).Lookup(ctx)
		fmt.Println(hour, err)
	}

	one, two := phone(old), phone(old, renamed)
	set(two, 7, old, renamed) // version 2 stores both names and reads the old one
	shows(one, old)
	set(one, 8, old) // version 1 stores the old one only, and version 2 follows
	shows(two, old)
	one.Close()

	three := phone(old, renamed) // no phone has version 1 now: version 3 stores both and reads the new one
	set(three, 9, old, renamed)
	shows(two, old)
	shows(three, renamed)
	two.Close()
	three.Close()

	four := phone(renamed) // no phone has version 2 now
	defer four.Close()
	if err := four.WithdrawKey(ctx, old.Name()); err != nil {
		log.Fatal(err)
	}
	if err := four.Drop(ctx, old.Name()); err != nil {
		log.Fatal(err)
	}
	shows(four, renamed)
	// Output:
	// 7 <nil>
	// 8 <nil>
	// 9 <nil>
	// 9 <nil>
	// 9 <nil>
}

// joined joins a board for an example.
func joined(link string, opts ...board.Option) *board.Board {
	b, err := board.Join(link, opts...)
	if err != nil {
		log.Fatal(err)
	}
	return b
}

// Additions of several phones all count.
func ExampleAdd() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	for range 3 { // three phones
		b := joined(link)
		if _, err := board.Add(ctx, board.On(b, TankLitres), 10); err != nil {
			log.Fatal(err)
		}
		b.Close()
	}
	b := joined(link)
	defer b.Close()
	litres, found, err := board.On(b, TankLitres).Lookup(ctx)
	fmt.Println(litres, found, err)
	// Output:
	// 30 true <nil>
}

// A refused value has a sentence for the user, and the state says why.
func ExampleVar_State() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	b := joined(link)
	defer b.Close()
	tank := board.On(b, TankLitres)
	if err := b.Ready(ctx); err != nil {
		log.Fatal(err)
	}
	fmt.Println(tank.State().Phase) // unknown, until the board has answered
	err := tank.Set(ctx, 6000)
	sentence, _ := pantry.Sentence(err)
	fmt.Println(tank.State().Phase, "-", sentence)
	// Output:
	// current
	// refused - 6000 is not from 0 to 5000
}

// A collection on a board: each record is an entry, and phones add to it at the same time.
func ExampleOnRecords() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	type Notice struct{ Text, By string }
	notices := pantry.RecordsOf[Notice]("notices")
	b := joined(link)
	defer b.Close()
	all := board.OnRecords(b, notices)
	if _, err := all.Add(ctx, Notice{"bring gloves", "Ana"}); err != nil {
		log.Fatal(err)
	}
	if _, err := all.Add(ctx, Notice{"the gate is open", "Ben"}); err != nil {
		log.Fatal(err)
	}
	for _, n := range all.All() { // in the order of Add
		fmt.Println(n.By+":", n.Text)
	}
	// Output:
	// Ana: bring gloves
	// Ben: the gate is open
}

// Several changes are made together, or not at all.
func ExampleBoard_Commit() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	queue := pantry.List[string]("hose/queue")
	b := joined(link)
	defer b.Close()
	tank, hose := board.On(b, TankLitres), board.On(b, queue)
	if _, err := b.Commit(ctx, board.OpPut(tank, 420), board.OpAppend(hose, "C4")); err != nil {
		log.Fatal(err)
	}
	_, err := b.Commit(ctx, board.OpAppend(hose, "B2"), board.OpAdd(tank, 9000))
	fmt.Println(errors.Is(err, pantry.ErrInvalid), tank.Get(), hose.Get())
	// Output:
	// true 420 [C4]
}

// A link for a phone, which can count and nothing else, and is revoked later.
func ExampleBoard_Invite() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	owner := joined(link)
	defer owner.Close()
	if err := board.On(owner, TankLitres).Set(ctx, 420); err != nil {
		log.Fatal(err)
	}
	token, err := owner.Invite(ctx, board.Invitation{May: "add", Label: "phone"})
	if err != nil {
		log.Fatal(err)
	}
	phone := joined(token.Link)
	defer phone.Close()
	left, err := board.Add(ctx, board.On(phone, TankLitres), -20)
	fmt.Println(left, err)
	fmt.Println(errors.Is(board.On(phone, TankLitres).Set(ctx, 0), board.ErrForbidden))
	fmt.Println(owner.RevokeLabel(ctx, "phone"))
	_, err = board.Add(ctx, board.On(phone, TankLitres), -20)
	fmt.Println(errors.Is(err, board.ErrForbidden))
	// Output:
	// 400 <nil>
	// true
	// <nil>
	// true
}

// Without a network, a change is stored on the device. The next launch shows what was known, and sends it.
func ExampleOffline() {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	link, stop := serve()
	ctx := context.Background()
	b := joined(link, board.Offline(dir), board.OnProblem(func(pantry.Problem) {}), board.Patience(100*time.Millisecond))
	if err := board.On(b, TankLitres).Set(ctx, 420); err != nil {
		log.Fatal(err)
	}
	stop() // the network is away
	tank := board.On(b, TankLitres)
	_, err = board.Add(ctx, tank, -10)
	s := tank.State()
	fmt.Println(errors.Is(err, board.ErrQueued), s.Phase, s.Value, s.Waiting)
	b.Close()

	b = joined(link, board.Offline(dir), board.OnProblem(func(pantry.Problem) {})) // the next launch
	defer b.Close()
	s = board.On(b, TankLitres).State()
	fmt.Println(s.Phase, s.Value, s.Waiting)
	fmt.Println(len(b.Pending()), "change waits")
	// Output:
	// true queued 420 410
	// queued 420 410
	// 1 change waits
}

// The past of a board, and what was stored at an earlier version.
func ExampleBoard_History() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	b := joined(link)
	defer b.Close()
	tank := board.On(b, TankLitres)
	for _, litres := range []int{420, 400} {
		if err := tank.Set(ctx, litres); err != nil {
			log.Fatal(err)
		}
	}
	commits, err := b.History(ctx, 5)
	if err != nil {
		log.Fatal(err)
	}
	for _, c := range commits {
		fmt.Println(c.Version, c.Changes[0].Name, c.Changes[0].Old, c.Changes[0].New)
	}
	entries, err := b.EntriesAt(ctx, 1)
	fmt.Println(entries[0].Value, err)
	// Output:
	// 2 tank/litres 420 400
	// 1 tank/litres  420
	// 420 <nil>
}

// Every change of everything on a board.
func ExampleBoard_Watch() {
	link, stop := serve()
	defer stop()
	ctx := context.Background()
	b := joined(link)
	defer b.Close()
	if err := board.On(b, TankLitres).Set(ctx, 420); err != nil {
		log.Fatal(err)
	}
	for changed := range b.Watch(ctx) { // all names first, and then those that changed
		e, _ := b.Known(changed[0])
		fmt.Println(e.Name, e.Value, "by", e.By)
		break
	}
	// Output:
	// tank/litres 420 by owner
}

// serve runs a server with one board, and returns its owner's link.
func serve() (link string, stop func()) {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		log.Fatal(err)
	}
	h := httptest.NewUnstartedServer(nil)
	s, err := server.New(server.Options{Data: dir, Public: "http://" + h.Listener.Addr().String(), Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		log.Fatal(err)
	}
	h.Config.Handler = s
	h.Start()
	if link, _, err = s.OwnerLink(context.Background(), "rowan-street"); err != nil {
		log.Fatal(err)
	}
	return link, func() {
		_ = s.Close()
		h.CloseClientConnections()
		h.Close()
		_ = os.RemoveAll(dir)
	}
}
