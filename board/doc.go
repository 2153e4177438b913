// Package board is the client of the shared store: the variables of several
// phones and several apps on one board.
//
// A key is declared as for the device, and lives on a board instead; the link is what
// whoever owns the board gives away:
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
//			for s := range tank.Watch(ctx) { // now, and after each change, by whichever phone
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
// Run it twice, side by side, and each shows what the other takes. A server to try it
// with: smallpantry serve --board rowan-street, which prints the link.
//
// # What a variable shows
//
// Get never waits and never fails: it gives what the server has stored, as far as is
// known, or the key's default. State tells which, and how far to trust it: its Phase is
// Unknown before the server has told (and the default is no value then: SetIf and
// FieldsVar.Set refuse to rest on it), Current, Sending, Queued, Stale while the server
// can't be reached, Unreadable for what the key can't use, or Refused. Nothing is shown
// that is not stored. Ready waits until the server has told of all variables there are.
//
// # How changes come
//
// One connection serves all variables of a Board. Where it can, the server tells of each
// change as it happens (Server-Sent Events); where something on the way doesn't let it, a
// request waits for news; and else the board is asked every 2 s while things change,
// slowing down to every 15 s. It falls back and comes back by itself, resumes where it
// stood without a gap, and Status tells the Way. Pause it while nobody looks.
//
// # Changing something
//
// Set, SetIf, Seed, Clear, Update, Add, Raise, Lower, Append, AppendUnique, Remove,
// RemoveAll and Take mean what they mean on a device; start, bounds and length come from
// the key. Add and its like are carried out on the server, so that two phones never lose
// one another's. Commit makes several changes, all or none. OnFields and OnRecords give
// settings and collections.
//
// Each change has a key of its own under which it counts once, however often it is sent:
// it is sent again where it may not have arrived, for as long as Patience says. An error
// is an *Error with a Code for the program and a Sentence for the user. ErrUnreachable
// says that it may have been done or not.
//
// # Without a network
//
// With Offline, what was known last is shown at the next launch, and a change that can't
// be sent is queued on the device and returns ErrQueued: it is sent later, in order, once.
// Operations count when they arrive. A Set that would overwrite what somebody else has
// stored meanwhile is not applied: it is reported, and kept among Pending.
//
// # Calls
//
// Calls that may wait for the network take a context; without a deadline Timeout applies
// to each silence of the server, and Patience to repeats. What the server wants by
// Retry-After is heeded by all of them, up to 5 minutes. No redirect is followed, and a
// link over plain http that leaves the machine is a problem that OnProblem is told of. All
// types are safe for concurrent use.
package board
