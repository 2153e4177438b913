// Package pantrytest helps app developers test that an app stores what it shows.
//
// # Close, open, compare
//
// Reopen runs the actions of an app one by one. After each action it records what the app shows,
// closes it, opens it, and compares. So it finds anything that was not stored, without a test
// written for it.
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
// Spoil stores a value of each wrong kind under each key in turn, and launches the app. The app
// must show its default and leave the stored value alone.
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
//	d.Kill()               // the process is gone, and everything that was not synced
//	app, err = Launch(d.Dir())
//
// # Names
//
// AssertUsage fails for each declared key that the app never read or never wrote, which can be
// misspelt or forgotten.
//
//	pantrytest.AssertUsage(t, ns)
//
// # Functions that run again
//
// The function of a Commit or Update runs again if another writer was faster. Twice makes it run
// once more than needed, so that a side effect shows.
//
//	pantrytest.Twice(t, dir)
package pantrytest
