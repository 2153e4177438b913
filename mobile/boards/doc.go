// Package boards is package board for apps in Java, Kotlin, Swift and Objective-C, beside package
// mobile, whose keys, runners and errors it uses: gobind makes one library of both.
//
//	val tankLitres = keys.intKey("tank/litres", 0)
//	val board = Boards.join(link, keys, Boards.newOptions().clientName("tankwatch").offline(dir))
//	val tank = board.intVar(tankLitres)
//	tank.watch(runner) { label.text = "${tank.get()} ${tank.state().phase}" }
//	tank.add(call, -10)                // waits for the network: not on the thread that draws
//
// Calls that wait for the network take a [Call], with which another thread can give them up; null
// waits for the time of Options.Timeout. The codes of errors are those of package mobile, and
// given-up, unreachable, forbidden, undeclared, quota, too-late and link.
//
// With Options.Offline, a change that can't be sent is no error: it is stored on the device and sent
// later, exactly once. Until then the phase of its variable is queued, and Waiting returns the value that
// results. Take is the exception, because its result is needed: its error is unreachable.
package boards
