// Package shared is package board for apps in Java, Kotlin, Swift and Objective-C, beside
// package mobile, whose keys, runners and errors it has: gobind makes one library of both.
//
//	val tankLitres = keys.whole("tank/litres", 0)
//	val board = Shared.join(link, keys, Shared.newOptions().clientName("tankwatch").offline(dir))
//	val tank = board.whole(tankLitres)
//	tank.watch(runner) { label.text = "${tank.get()} ${tank.state().phase}" }
//	tank.add(call, -10)                // waits for the network: not on the thread that draws
//
// What waits for the network takes a [Call], by which it can be given up from another thread;
// null waits for as long as Options.Timeout says. The codes of errors are those of package
// mobile, and given-up, unreachable, forbidden, undeclared, quota, too-late, queued (kept, and sent when
// the server is reached) and link.
package shared
