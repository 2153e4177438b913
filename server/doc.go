// Package server is the shared store: boards of named values over HTTP, which
// several apps read, write and poll. A Server is an http.Handler; its paths
// begin with /v1.
//
//	s, err := server.New(server.Options{Data: "pantry-data", Dev: true}) // no tokens
//	…
//	defer s.Close()
//	l, err := net.Listen("tcp", "127.0.0.1:8437")
//	…
//	err = s.Serve(ctx, l)
//
// From anywhere on the same machine then:
//
//	curl -X PUT -d 420 http://127.0.0.1:8437/v1/boards/rowan-street/entries/tank/litres
//	curl http://127.0.0.1:8437/v1/boards/rowan-street/entries
//
// Answers are JSON. Conditional requests follow RFC 9110: every entry has an
// ETag for If-Match and If-None-Match, and so has every list, which makes
// polling cheap. Errors are problems as RFC 9457 has them, with a code for the
// program and a sentence for people.
//
// Whoever changes something may say which app he is in the header Client-Name,
// and which copy of it in Client-Instance, with at most 100 bytes of UTF-8 each:
// entries and the history tell the name, which is a claim and no proof, and the
// start of the instance's SHA-256. With an Idempotency-Key a request counts once
// (draft-ietf-httpapi-idempotency-key-header).
//
// A list tells the mark where its reader stands, and with it later what changed
// since; /events pushes that (Server-Sent Events, WHATWG HTML). docs/http.md goes
// through all calls, and /openapi.json describes them (OpenAPI 3.1).
//
// An answered write is on the server's disk. Each board is one file in
// DATA/boards, and DATA belongs to one server at a time.
//
// # Tokens
//
// A board is reached by a link, http(s)://HOST/boards/BOARD#TOKEN, whose token goes into the
// header Authorization (RFC 6750). It says what its holder may: read, add, write or own,
// perhaps only under names that begin with a prefix, and until a moment. An owner makes and
// revokes tokens; the token in DATA/admin-token, which New writes where there is none,
// may own every board, and makes and removes them. Of a token only its hash is stored, in
// DATA/access. OwnerLink gives a link to begin with.
//
// # Pages
//
// A board's link, /boards/BOARD, is a page for people, and /small-pantry.js the client for
// pages of one's own. They are the same for every board and tell nothing of any; what they
// show, they ask for with the token.
//
// # Development mode
//
// With Options.Dev there are no tokens: every caller may do everything, and
// boards come into being on first use. Therefore it only works on loopback, and
// refuses requests that a browser sends for another site's page, or that came
// through a proxy; pages that this machine serves at another port may use it.
// Options.Pages serves a developer's own pages from the same origin, and
// Options.Trouble makes the network bad on purpose.
package server
