// Package pantrytest helps app developers to test that what their apps show is
// what is stored.
//
// # Close, open, compare
//
// Reopen runs the actions of an app one by one. After each it notes what the app
// shows, closes it, opens it, and compares: whatever was not stored is found,
// with no test written for it.
//
//	func TestEverythingIsStored(t *testing.T) {
//		pantrytest.Reopen(t, pantrytest.App[*Plotbook]{
//			Launch:  Launch, // func(dir string) (*Plotbook, error)
//			Close:   (*Plotbook).Close,
//			Shows:   func(p *Plotbook) any { return p.Screen() },
//			Actions: []pantrytest.Action[*Plotbook]{{"tick C4", (*Plotbook).TickC4}, {"reset", (*Plotbook).Reset}},
//			Reset:   "reset", // after it the app must be as at its first launch
//		})
//	}
//
// # Garbage in every key
//
// Spoil gives each key a value of each wrong kind in turn, and launches the
// app: it must show its default, and leave what is stored alone.
//
//	pantrytest.Spoil(t, app, "plotbook", reminderHour, plot)
//
// # A device that fails
//
// A Device is a directory whose disk can be full, and whose power can be cut.
//
//	d := pantrytest.NewDevice(t)
//	app, err := Launch(d.Dir())
//	d.Fill()               // every write fails from now on
//	err = app.TickC4()     // the app must show that, and keep its screen true
//	d.Free()
//	d.Kill()               // the process is gone, and what was not synced too
//	app, err = Launch(d.Dir())
//
// # Names
//
// AssertUsage fails for each declared key that the app never read or never
// wrote, as a misspelt or forgotten one.
//
//	pantrytest.AssertUsage(t, ns)
//
// # Functions that run again
//
// The function of a Commit or Update runs again when others were faster. Twice
// has it run once more than needed, so that a side effect shows.
//
//	pantrytest.Twice(t, dir)
package pantrytest
