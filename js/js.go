// Package js holds the client of a board for pages and for Node, an ES module. A server serves
// it at /small-pantry.js; npm packs it from here.
package js

import _ "embed"

var (
	// Module is the module.
	//go:embed small-pantry.js
	Module []byte
	// Types are its TypeScript types.
	//go:embed small-pantry.d.ts
	Types []byte
)
