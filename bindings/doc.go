// Package bindings makes libraries for Java and Kotlin, and for Swift, of packages mobile and boards, with
// gobind. Package jvm in it builds the library for the JVM of this machine, on which its tests run the
// programs in testdata.
package bindings

import (
	_ "golang.org/x/mobile/bind/seq"

	_ "github.com/small-pantry/pantry/mobile"
	_ "github.com/small-pantry/pantry/mobile/boards"
)
