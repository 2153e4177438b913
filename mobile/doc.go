// Package mobile is package pantry for apps in Java, Kotlin, Swift and Objective-C: gobind
// (golang.org/x/mobile) makes of it a library of theirs. It has the same keys, the same file
// and the same promises; what those languages can't say is said otherwise:
//
//   - Keys are declared with [Keys] before a namespace is opened. What is wrong with one is
//     the error of [Open]; nothing here ends the process.
//   - Each kind of key and variable is a type of its own. Times and durations are
//     milliseconds, lists are [Texts], a record is a [Record].
//   - What is told of an error is CODE: SENTENCE, of which [Code] and [Sentence] give each.
//     The sentence is for the user, the code for the program.
//   - An object that is empty, or of another namespace's keys, is an error with the code
//     misuse, an exception in those languages.
//   - Changes are told through a [Runner] that the app gives, which runs a [Task] where the
//     app wants it: on the thread that draws. At most one waits at a time: a slow screen
//     skips what it could not have shown.
//
// In Kotlin:
//
//	val keys = Keys()
//	val reminderHour = keys.whole("reminder-hour", 18).between(0, 23)
//	val ns = Mobile.open(dir, "plotbook", keys, null)
//	val hour = reminderHour.bind(ns)
//	hour.set(7)                       // stored when it returns: not on the thread that draws
//	hour.watch(runner) { label.text = hour.get().toString() }
//
// All may be used by several threads at once. It carries no net.
package mobile
