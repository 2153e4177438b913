// Package debugview lets a developer look into the running app from a browser: the page and
// the commands that boards have, on the namespace that the app has open. A change made there
// is the app's at once, and what the app changes shows there.
//
//	view, err := debugview.Open(ns)
//	fmt.Println(view.Link()) // http://127.0.0.1:43127/boards/plotbook#…; empty in a release
//	defer view.Close()
//
// It is there only in a program that is built with -tags pantrydebug. Without the tag, Open
// does nothing and Link is empty, so that the call can stay where it is: a release carries
// neither server nor net.
//
// Whoever has the link may do everything there, so that it is drawn anew each time and given
// to nobody else; on a phone every other app reaches loopback. Sealed values are shown as
// sealed, and can't be read or replaced. Android Studio's adb forward tcp:PORT tcp:PORT brings
// the port to the machine of the developer; so does [LAN] to the whole network.
package debugview
