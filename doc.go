// Package pantry keeps small app settings and state on the device: named,
// typed values that are still there after the app is closed, killed, or the
// phone restarted.
//
// A Key is declared once, with its name, kind, default and rules; a Var is that
// key in a Namespace, which is one file.
//
//	var reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23)
//
//	ns, err := pantry.Open(dir, "plotbook")
//	…
//	defer ns.Close()
//	hour := reminderHour.In(ns)
//	hour.Get()      // 18: nothing is stored yet
//	err = hour.Set(7) // nil: it is on the disk
//	hour.Get()      // 7, also after the app was closed and opened
//
// # Declaring
//
// There is a constructor for each kind: Bool, Int, Float, Text, Bytes and Time;
// OneOf for a choice from a set; List and Map; Object for a struct that is read
// and written whole. Fields declares a struct of settings, each field an entry;
// RecordsOf a collection of structs, each an entry with an id. Key.At makes a
// family of keys, such as one for each bed. Give all of them to Declare when the
// namespace is opened: then misspelt names and changed kinds are found, and
// lists show also what was never written.
//
// # Reading
//
// Var.Get never fails and never waits: it gives the default where nothing is
// stored, and where what is stored can't be used. Var.Lookup tells these cases
// apart. Var.Watch gives the value now and then each newer one, whoever writes it.
//
// # Writing
//
// Write at every change, not at exit. Var.Set returns nil when the value is on
// the disk; until then nobody sees it. Var.Update and the operations (Add, Raise,
// Lower, Append, AppendUnique, Remove, RemoveAll, Take) are steps that lose
// nobody's change. Namespace.Commit makes several changes whole or not at all.
// A default is never written back by itself.
//
// # What a user typed
//
// Key.Parse reads and checks it; its error is a sentence to show.
//
// # Keeping up with one's own past
//
// A new key needs nothing. A changed name or kind is a step of the Schema.
// Namespace.Reset puts every key back to its default. Namespace.History tells
// the newest commits.
//
// # What goes wrong
//
// Errors wrap the sentinels of this package, in an *Error that says what was
// tried where. What was survived is a Problem: it goes to OnProblem, or to
// the standard log, and is kept for Namespace.Problems. Misuse that shows when keys are
// declared panics, with the remedy.
//
// # Durability
//
// A write that returns nil is synced to the disk: a power cut does not undo it.
// SyncWithin makes writes prompt instead: they are synced within 250 ms. A file
// that was damaged is salvaged when it is opened, unless Strict, and what was lost
// is reported; Repair does it by hand. Several processes may use one file; each
// may say who it is (As), which the history tells.
//
// # Seeing that everything is stored
//
// The command smallpantry shows, compares, changes and checks a namespace from
// outside, also while an app has it open. Package pantrytest closes and opens
// an app after each of its actions, kills it, fills its disk and spoils its
// file. Namespace.Usage and NoteUsage find keys that nobody reads or writes.
//
// # Caveats
//
// All of a namespace is in memory, and a value has 1 MiB at most: it is for small
// data. A write waits for the disk, which can take tens of milliseconds, so it
// does not belong on the thread that draws. Values stand in the file in the
// clear unless their key is Sealed.
package pantry
