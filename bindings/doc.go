// Package bindings makes libraries for Java and Kotlin, and for Swift, of packages mobile and shared, with
// gobind. It has nothing of its own: its test builds the library for the JVM of this machine,
// and runs the programs in testdata against it.
package bindings

import (
	_ "golang.org/x/mobile/bind/seq"

	_ "github.com/small-pantry/pantry/mobile"
	_ "github.com/small-pantry/pantry/mobile/shared"
)
