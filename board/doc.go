// Package board is the client of the shared store: the variables of several
// phones and several apps on one board.
//
// A key is declared as for the device, and lives on a board instead:
//
//	var TankLitres = pantry.Int("tank/litres", 0)
//
//	b, err := board.Join("http://127.0.0.1:8437/boards/rowan-street", board.ClientName("tankwatch"))
//	…
//	defer b.Close()
//	tank := board.On(b, TankLitres)
//	tank.Get()                     // what is known, else the default; never waits
//	board.Add(ctx, tank, -10)      // counted even if another phone does so too
//	for s := range tank.Watch(ctx) {
//		fmt.Println(s.Value, s.Phase)
//	}
//
// A Board asks for all its variables in one request, again and again: fast
// while things change, slowly when it is quiet. A request that finds nothing
// new is answered in a few bytes (RFC 9110, 304). With Push the server tells of
// each change as it happens.
//
// What a variable shows is always something that the server has stored, or the
// key's default. State tells which, and how far to trust it.
//
// Calls that may wait for the network take a context; without a deadline
// Timeout applies. They are repeated, each change under a key of its own, so that
// it counts once.
package board
