// Package pantry stores small app settings and state on the device: named, typed values that are
// still there after the app is closed or killed, or the phone restarts.
//
// A Key is declared once, with its name, kind, default and rules. A Var is that key in a Namespace,
// which is one file.
//
//	var reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23)
//
//	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(reminderHour))
//	…
//	defer ns.Close()
//	hour := reminderHour.In(ns)
//	hour.Get()      // 18: nothing is stored yet
//	err = hour.Set(7) // nil: it is on the disk
//	hour.Get()      // 7, also after the app was closed and opened
//
// # Declaring
//
// There is a constructor for each kind: Bool, Int, Float, Text, Bytes, Time and Duration; OneOf for
// a choice from a set; List and Map; Object for a struct that is read and written as one entry.
// Fields declares a struct of settings with one entry per field. RecordsOf declares a collection
// with one entry per record. Key.At makes a family of keys, such as one for each bed. Pass all of
// them to Declare when you open the namespace. Open then finds misspelt names and changed kinds,
// and lists also show keys that were never written.
//
// # Reading
//
// Var.Get never fails and never waits. It returns the default if nothing is stored, and if the
// stored value can't be used. Var.Lookup distinguishes these cases. Var.Watch yields the value now,
// and then the newest value after each change by any program.
//
// # Writing
//
// Write at every change, not at exit. Var.Set returns nil once the value is on disk. Until then no
// reader sees it. Var.Update and the operations (Add, Raise, Lower, Append, AppendUnique, Remove,
// RemoveAll, Take) never overwrite another writer's change. Namespace.Commit applies several
// changes completely or not at all. A default is never written back.
//
// # What a user typed
//
// Key.Parse reads and checks it. Its error is a sentence to show to the user.
//
// # Removing
//
// Clear empties a variable, a struct of settings or a collection. Drop removes entries or records
// by name. Forget drops entries and erases their past from the file. Reset removes everything in a
// namespace. Delete removes the namespace itself.
//
// # Evolving an app
//
// A new key needs nothing. A changed name or kind needs a step of the Schema. Namespace.History
// returns the newest commits.
//
// # Errors
//
// Errors wrap the sentinels of this package in an *Error, which names the operation and its object.
// A fault that the program survived is a Problem. It goes to OnProblem, or to the standard log, and
// is kept for Namespace.Problems. A programmer's mistake in a declaration panics with the remedy.
//
// # Durability
//
// A write that returns nil is synced to the disk: a power cut does not undo it. SyncWithin makes
// writes prompt: they are synced within 250 ms. Open salvages a damaged file, unless Strict is
// given, and reports what was lost. Repair does the same by hand. Several processes can use one
// file.
//
// # Testing that everything is stored
//
// The command smallpantry shows, compares, changes and checks a namespace from outside, also while
// an app has it open. Package pantrytest closes and opens an app after each of its actions, kills
// it, fills its disk and spoils its file. Namespace.Usage and NoteUsage find keys that no code
// reads or writes.
//
// # Caveats
//
// A namespace is in memory as a whole, and a value has at most 1 MiB: the package suits small
// data. A write waits for the disk, which can take tens of milliseconds, so it does not belong on
// the thread that draws. Values are in the file in the clear unless their key is Sealed.
package pantry
