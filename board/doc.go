// Package board is the client of the shared store: variables of several phones and apps on one
// board.
//
// A key is declared as for the device, and bound to a board. The owner of the board hands out its
// link:
//
//	var TankLitres = pantry.Int("tank/litres", 0).Between(0, 5000)
//
//	func main() {
//		ctx := context.Background()
//		b, err := board.Join(link, board.ClientName("tankwatch"), board.Declare(TankLitres))
//		if err != nil {
//			log.Fatal(err)
//		}
//		defer b.Close()
//		tank := board.On(b, TankLitres)
//		go func() {
//			for s := range tank.Watch(ctx) { // now, and after each change by any phone
//				fmt.Println(s.Value, "litres,", s.Phase)
//			}
//		}()
//		for range 3 {
//			if _, err := board.Add(ctx, tank, -10); err != nil { // counted even if others add too
//				fmt.Println(err)
//			}
//		}
//	}
//
// Run it twice, side by side, and each shows what the other takes. To try it, start a server with
// smallpantry serve --board rowan-street, which prints the link.
//
// # What a variable shows
//
// Get never waits and never fails: it returns what the server has stored, as far as is known, or
// the key's default. State has more: its Phase is Unknown before the server has answered (the
// default is not a stored value then, so SetIf and FieldsVar.Set refuse it as a base), Current,
// Sending, Queued, Stale while the server can't be reached, Unreadable for a value that the key
// can't use, or Refused. A value that is not stored is never shown. Ready waits until the server
// has returned all variables.
//
// # How changes arrive
//
// One connection serves all variables of a Board. The server pushes each change (Server-Sent
// Events). If something on the network path prevents that, a request waits for a change. Otherwise
// the board polls, every 2 s while things change, slowing down to every 15 s. It falls back and
// recovers by itself and misses nothing; Status has the current Way. Pause it while the app is not visible.
//
// # Changes
//
// Set, SetIf, Seed, Clear, Update, Add, Raise, Lower, Append, AppendUnique, Remove, RemoveAll and
// Take mean the same as on a device; start, bounds and length come from the key. Add and the other
// operations are executed by the server, so no phone overwrites the change of another. Commit makes
// several changes, all or none. OnFields and OnRecords bind settings and collections.
//
// Each change has an idempotency key, so it counts once. It is sent again if it may not have
// arrived, for as long as Patience allows. An error is an *Error with a Code for the program and a
// Sentence for the user. ErrUnreachable means that the change may have been stored or not.
//
// # Without a network
//
// With Offline, the known values are shown at the next launch. A change that can't be sent is
// queued on the device and returns ErrQueued. It is sent later, in order, and counts once.
// Operations count when they arrive. A Set that would overwrite what somebody else has stored since
// is not applied: it is reported, and stays in Pending.
//
// # Calls
//
// Calls that can wait for the network take a context. Timeout limits each silence of the server,
// and Patience limits repeats. Retry-After is obeyed, up to 5 minutes. No redirect is followed. A
// link with plain http to another machine is reported to OnProblem. All types are safe for
// concurrent use.
package board
