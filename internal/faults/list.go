package main

// faults is the list. A fault that breaks a promise of docs/guarantees.md names that promise. Add
// the faults of a new promise with the code that keeps it.
var faults = []fault{
	{
		file:    "internal/ledger/commit.go",
		old:     "		l.flushWithin(group)\n",
		new:     "",
		promise: "a prompt commit is synced within its time",
	},
	{
		file:    "internal/rules/page.go",
		old:     "	if !mark.Known(l, m) {\n		return now, false\n	}\n	for range q.changed",
		new:     "	for range q.changed",
		promise: "a mark from another life of the board is not taken for unchanged",
	},
	{
		file:     "server/guard.go",
		old:      "	if c.s.shared != nil && !c.s.shared.Near() { // it may have been revoked on another server\n",
		new:      "	if false {\n",
		promise:  "a server that is cut off from etcd accepts no revoked token",
		packages: []string{"server/etcd:."},
	},
	{
		file:    "server/call.go",
		old:     "		_ = http.NewResponseController(w).SetReadDeadline(c.now.Add(bodyTime))\n",
		new:     "",
		promise: "a body has 60 s in all",
	},
	{
		file:    "board/board.go",
		old:     "	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }\n",
		new:     "",
		promise: "the client follows no redirect",
	},
	{
		file:    "board/queue.go",
		old:     "	if last.sent || last.code",
		new:     "	if last.code",
		promise: "a put is not merged into one that may have arrived",
	},
	{
		file:    "js/small-pantry.js",
		old:     "const merges = last && !last.sent && ",
		new:     "const merges = last && ",
		promise: "a put is not merged into one that may have arrived (JavaScript)",
	},
	{
		file:    "board/queue.go",
		old:     "if e.Name != now.Name || later.sent || ",
		new:     "if e.Name != now.Name || ",
		promise: "a change that was sent is not altered",
	},
	{
		file:    "js/small-pantry.js",
		old:     "			if (item.who !== who) throw new BoardError('too-late', 'sent with another link, it may have arrived')\n",
		new:     "",
		promise: "a change that was sent with one link is not sent with another",
	},
	{
		file:    "server/page/row.js",
		old:     "makeOp('drop', this.name, '', tagOf(e))",
		new:     "makeOp('drop', this.name, '')",
		promise: "the page removes an entry only as it was shown",
	},
	{
		file:    "server/page/table.js",
		old:     "row.entry?.version === e?.version && row.entry?.updated === e?.updated",
		new:     "row.entry?.version === e?.version",
		promise: "the page marks an entry of the same version and another time as changed",
	},
	{
		file:    "server/call.go",
		old:     "	if err != nil && c.holder != nil && !c.s.tokens.Still(c.holder, time.Now()) {\n",
		new:     "	if false {\n",
		promise: "a caller who was revoked gets 401 and no other error",
	},
	{
		file:    "server/entry.go",
		old:     "			cond.Is[i].Version = entry.Never\n",
		new:     "			_ = i\n",
		promise: "If-Match: \"0\" matches no entry",
	},
	{
		file:    "internal/rules/page.go",
		old:     "	} else if q.After != \"\" && len(q.Since) > 0 {\n		return page, startAgain(page.Board)\n	}\n",
		new:     "	}\n",
		promise: "a stream ends when its mark is lost between two pages",
	},
	{
		file:    "internal/store/shelf.go",
		old:     "		case errors.Is(b.err, ErrNoBoard) && create: // somebody else did not want to make it\n",
		new:     "",
		promise: "a board is created beside somebody who reads its name",
	},
	{
		file:    "server/etcd/log.go",
		old:     "		l.offered, l.unread = nil, true\n		return\n",
		new:     "		l.offered = nil\n		return\n",
		promise: "batches that the feed could not hold are read from the log",
	},
	{
		file:    "board/call.go",
		old:     "; later.After(b.later) {",
		new:     "; !later.IsZero() {",
		promise: "a shorter Retry-After does not replace a longer one",
	},
	{
		file:    "board/call.go",
		old:     "func() { cancel(context.DeadlineExceeded) })",
		new:     "func() { cancel(nil) })",
		promise: "the client's own time limit is not reported as the caller's",
	},
	{
		file:    "mobile/watch.go",
		old:     "				one.Lock()\n				defer one.Unlock()\n",
		new:     "				_ = &one\n",
		promise: "handlers run one after the other",
	},
	{
		file:    "internal/journal/replace.go",
		old:     "		if err := h.Sync(); err != nil {\n			return err\n		}\n		if now, err",
		new:     "		_ = h.Sync()\n		if now, err",
		promise: "a compacted file that could not be synced is not put in place",
	},
}
