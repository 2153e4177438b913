package board_test

import (
	"context"
	"fmt"
	"log"
	"log/slog"
	"net/http/httptest"
	"os"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
)

// TankLitres is declared once, for all apps that use it.
var TankLitres = pantry.Int("tank/litres", 0).Between(0, 5000).About("in the rain tank")

// Two phones share the water of one tank: the first shows what is in it, whoever takes some.
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
		if s.Value == 410 { // what was before may be told or not
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

// serve runs a server with one board, and gives its owner's link.
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
