// Package debugview shows the namespace of a running app in a browser. It serves the same page and
// commands as for boards. Changes made there take effect in the app at once, and changes by the app
// appear there.
//
//	view, err := debugview.Open(ns)
//	fmt.Println(view.Link()) // http://127.0.0.1:43127/boards/plotbook#…; empty in a release
//	defer view.Close()
//
// It needs a program built with -tags pantrydebug. Without the tag, Open does nothing and Link is
// empty, so the calls can stay in the code. A release contains no server and does not import net.
//
// Anyone who has the link can do everything there. The link is new at each start; don't pass it on.
// On a phone, other apps can reach loopback too. Sealed values are shown as sealed and can't be
// read or replaced. The command adb forward tcp:PORT tcp:PORT makes the port available on the
// developer's machine; [LAN] makes it available on the whole network.
package debugview
