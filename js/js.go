// Package js holds the client of a board for pages and for Node, an ES module. A server serves
// it at /small-pantry.js in its small form; npm packs it from here as it is written.
package js

import _ "embed"

var (
	// Module is the module as it is written.
	//go:embed small-pantry.js
	Module []byte
	// Small is the same with short names and without comments: npm run small makes it.
	//go:embed small-pantry.min.js
	Small []byte
	// Types are its TypeScript types.
	//go:embed small-pantry.d.ts
	Types []byte
)
