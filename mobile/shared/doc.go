// Package shared is package board for apps in Java, Kotlin, Swift and Objective-C, beside package
// mobile, whose keys, runners and errors it uses: gobind makes one library of both.
//
//	val tankLitres = keys.whole("tank/litres", 0)
//	val board = Shared.join(link, keys, Shared.newOptions().clientName("tankwatch").offline(dir))
//	val tank = board.whole(tankLitres)
//	tank.watch(runner) { label.text = "${tank.get()} ${tank.state().phase}" }
//	tank.add(call, -10)                // waits for the network: not on the thread that draws
//
// Calls that wait for the network take a [Call], with which another thread can give them up; null
// waits for the time of Options.Timeout. The codes of errors are those of package mobile, and
// given-up, unreachable, forbidden, undeclared, quota, too-late, queued (stored on the device, and
// sent when the server is reached) and link.
package shared
