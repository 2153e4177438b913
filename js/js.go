// Package js holds the client of a board for pages and for Node, an ES module. A server serves it at
// /small-pantry.js, and npm packs it from here. It is bundled from src.
package js

import _ "embed"

//go:generate go tool esbuild src/index.js --bundle --minify --format=esm --target=es2022 --legal-comments=none "--banner:js=// bundled by go generate from js/src" --outfile=small-pantry.js --log-level=warning

var (
	// Module is the module.
	//go:embed small-pantry.js
	Module []byte
	// Types are its TypeScript types.
	//go:embed small-pantry.d.ts
	Types []byte
)
