// Package server is the shared store: boards of named values over HTTP that several apps read,
// write and poll. A Server is an http.Handler; the paths of its calls begin with /v1.
//
//	s, err := server.New(server.Options{Data: "pantry-data", Dev: true}) // no tokens
//	…
//	defer s.Close()
//	l, err := net.Listen("tcp", "127.0.0.1:8437")
//	…
//	err = s.Serve(ctx, l)
//
// Then, from anywhere on the same machine:
//
//	curl -X PUT -d 420 http://127.0.0.1:8437/v1/boards/rowan-street/entries/tank/litres
//	curl http://127.0.0.1:8437/v1/boards/rowan-street/entries
//
// Answers are JSON. Conditional requests follow RFC 9110: every entry has an ETag for If-Match and
// If-None-Match, and so has every list, which makes polling cheap. Errors are problems (RFC 9457)
// with a code for the program and a sentence for people.
//
// A client can name its app in the header Client-Name (at most 100 bytes of UTF-8), and its copy of
// the app in Client-Instance (at most 64). Entries and the history show the name, which is not
// verified, and the start of the instance's SHA-256. With an Idempotency-Key a request counts once
// (draft-ietf-httpapi-idempotency-key-header).
//
// A list has a mark, which says how far its reader has read. A later request with the mark returns
// what has changed since. /events pushes changes (Server-Sent Events, WHATWG HTML). docs/http.md
// describes all calls, and so does /openapi.json (OpenAPI 3.1).
//
// An answered write is on the server's disk. Each board is one file in DATA/boards, and one server
// at a time uses DATA.
//
// # Tokens
//
// A board has links, http(s)://HOST/boards/BOARD#TOKEN. The token goes into the header
// Authorization (RFC 6750). It allows reading, adding, writing or owning; for all names, or for
// those with a prefix; for ever, or until a moment. An owner makes and revokes tokens. The token in
// DATA/admin-token, which New creates, owns every board, and creates and removes boards. Only the
// hash of a token is stored, in DATA/access. OwnerLink returns a first link.
//
// # Limits
//
// Requests are admitted against limits of memory, streams, connections, work and written bytes.
// Each link, board and address has a share of them, so one caller can't hold up the others. See
// Limits and docs/limits.md.
//
// # Pages
//
// A board's link, /boards/BOARD, is a page for people, and /small-pantry.js the client for your own
// pages. These files are the same for every board. The page requests everything that it shows with
// the token.
//
// # Development mode
//
// With Options.Dev there are no tokens: every caller can do everything, and boards are created by
// their first entry. Therefore it listens on loopback only, and refuses requests that a browser
// sends for another site's page or that came through a proxy. Pages that this machine serves at
// another port can use it. Options.Pages serves a developer's own pages from the same origin, and
// Options.Trouble imitates a bad network.
package server
