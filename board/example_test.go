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
