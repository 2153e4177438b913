// Package mobile is package pantry for apps in Java, Kotlin, Swift and Objective-C. gobind
// (golang.org/x/mobile) makes a library from it. It has the same keys, file and promises, with
// these differences, which gobind needs:
//
//   - Keys are declared with [Keys] before a namespace is opened. What is wrong with a key is the error
//     of [Open]; nothing here ends the process.
//   - Each kind of key and variable is a type of its own. Times and durations are milliseconds, lists
//     are [Items], a record is a [Record].
//   - The message of an error is CODE: SENTENCE. [Code] and [Sentence] return its parts. A user
//     reads the sentence, a program the code.
//   - An object that is empty, or belongs to the keys of another namespace, is an error with the code
//     misuse, which is an exception in those languages.
//   - Changes are reported through the app's [Runner], which runs a [Task] on the thread that draws. At
//     most one task waits at a time, so a slow screen skips intermediate states.
//
// In Kotlin:
//
//	val keys = Keys()
//	val reminderHour = keys.intKey("reminder-hour", 18).between(0, 23)
//	val ns = Mobile.open(dir, "plotbook", keys, null)
//	val hour = reminderHour.bind(ns)
//	hour.set(7)                       // stored when it returns: not on the thread that draws
//	hour.watch(runner) { label.text = hour.get().toString() }
//
// All types are safe for use by several threads. The package does not import net.
package mobile

//go:generate go run ../internal/mobilekinds
