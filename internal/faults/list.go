package main

import "slices"

// faults is the list. A fault that breaks a promise of docs/guarantees.md names that promise. Add
// the faults of a new promise with the code that keeps it.
var faults = slices.Concat(deviceFaults, boardFaults)

// deviceFaults are those of the library, and of what it shares with the server.
var deviceFaults = []fault{
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
		file:    "internal/access/tokens.go",
		old:     "return life == b.Life || b.Life == journal.AnyLife",
		new:     "return life != \"\" || b.Life == journal.AnyLife",
		promise: "a board that is made again accepts no token of the earlier one",
	},
	{
		file:     "internal/journal/line.go",
		old:      "	other.Life, other.ID = h.LifeID(), id\n",
		new:      "	other.ID = id\n",
		promise:  "links outlive forgetting",
		packages: []string{"./server"},
	},
	{
		file:    "internal/rules/page.go",
		old:     "	} else if q.After != \"\" && len(q.Since) > 0 {\n		return page, startAgain(page.Board)\n	}\n",
		new:     "	}\n",
		promise: "a stream ends when its mark is lost between two pages",
	},
	{
		file:    "internal/store/shelf.go",
		old:     "		case errors.Is(b.err, ErrNoBoard) && create: // another caller did not want to create it\n",
		new:     "",
		promise: "a board is created beside somebody who reads its name",
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
	{
		file:    "internal/ledger/filelog.go",
		old:     "		err := f.file.Sync()\n",
		new:     "		var err error\n",
		promise: "a strict write is on the disk when it returns",
	},
	{
		file:    "internal/journal/file.go",
		old:     "	case f.handle == nil, now.ID != f.id, now.Size < f.cursor.end:\n",
		new:     "	case f.handle == nil, now.Size < f.cursor.end:\n",
		promise: "a write goes into the file at the path",
	},
	{
		file:    "internal/ledger/filelog.go",
		old:     "		if failed = f.file.SyncRead(r); failed != nil && !f.readOnly {\n",
		new:     "		if false {\n",
		promise: "lines of another process are synced before they are shown",
	},
	{
		file:    "internal/journal/line.go",
		old:     "	return crc32.Checksum(body, castagnoli) == sum\n",
		new:     "	return len(body) > 0\n",
		promise: "a flipped byte is noticed",
	},
	{
		file:    "internal/ledger/filelog.go",
		old:     "	if cut == nil && journal.IsFull(cause) && f.synced == head.Version {\n",
		new:     "	if cut == nil {\n",
		promise: "a failed sync is not believed the second time",
	},
	{
		file:    "internal/journal/read.go",
		old:     "err == nil && mark.Synced > last {\n			return true\n",
		new:     "err == nil && mark.Synced > last {\n			return false\n",
		promise: "lost bytes that were promised are damage, not a torn tail",
	},
	{
		file:     "internal/ledger/record.go",
		old:      "	if n.rec.Load() == rec {\n		keep()\n	}\n",
		new:      "	keep()\n",
		promise:  "a Get after a Set sees its value",
		packages: []string{"."},
	},
	{
		file:    "internal/store/files.go",
		old:     "	o.Problem = func(err error) { f.problem(name, err) }\n",
		new:     "	o.Problem, o.Salvage = func(err error) { f.problem(name, err) }, true\n",
		promise: "a server refuses a damaged board",
	},
	{
		file:    "internal/ledger/filelog.go",
		old:     "	case replaced || grown || !f.isAt(head):\n",
		new:     "	case replaced || grown && !f.isAt(head):\n",
		promise: "a commit builds on what other processes wrote",
	},
	{
		file:    "internal/ledger/queue.go",
		old:     "		case !now.Before(over):\n",
		new:     "		case now.IsZero():\n",
		promise: "a commit waits 5 s at most",
	},
	{
		file:    "internal/ledger/compact.go",
		old:     "return r.forced || r.size > r.limit() }",
		new:     "return r.forced }",
		promise: "a file does not grow for ever",
	},
	{
		file:    "internal/ledger/cuts.go",
		old:     "	return 0 < l.rank && l.rank <= keptChanges && i >= c.changes\n",
		new:     "	return false\n",
		promise: "the newest 20 changes of each name are kept",
	},
	{
		file:    "internal/ledger/cuts.go",
		old:     "l.point = !seen[of]",
		new:     "l.point = false",
		promise: "restore points are kept",
	},
	{
		file:    "internal/ledger/past.go",
		old:     "			ch.forgot = p.forgets[ch.name] && (newest[ch.name] || ch.gone)\n",
		new:     "			ch.forgot = false\n",
		promise: "Forget leaves no old value in the file",
	},
	{
		file:    "internal/ledger/forget.go",
		old:     "	header := l.head.Header.WithID(newID())\n",
		new:     "	header := *l.head.Header\n",
		promise: "no mark from before a Forget is believed",
	},
	{
		file:    "internal/journal/replace.go",
		old:     "	if err == nil && !own {\n",
		new:     "	if err == nil && !own && uid < 0 {\n",
		promise: "another user creates no file that the app can't open",
	},
	{
		file:    "internal/rules/rules.go",
		old:     "		if done != nil {\n			return j.repeat(tx, c.Edits, done)\n		}\n",
		new:     "		_ = done\n",
		promise: "a request under an Idempotency-Key counts once",
	},
	{
		file:    "internal/rules/rules.go",
		old:     "j.oneResult[:0], j.oneNoted[:0], nil, 0, nil\n",
		new:     "j.results, j.noted, j.at, j.work, nil\n",
		promise: "a commit that is evaluated again has the results of the last evaluation only",
	},
	{
		file:    "internal/mark/mark.go",
		old:     "{ return m != Mark{} && At(l, m.Version) == m }",
		new:     "{ return m != Mark{} && At(l, m.Version).Version == m.Version }",
		promise: "a mark holds only for the commit that it names",
	},
	{
		file:    "internal/access/grant.go",
		old:     "	case value.Add, value.Append, value.Raise, value.Lower:\n		return g.Needs(Add)\n",
		new:     "	case value.Add, value.Append, value.Raise, value.Lower, value.Take:\n		return g.Needs(Add)\n",
		promise: "a link that can add takes nothing out of a list",
	},
	{
		file:    "internal/access/grant.go",
		old:     "			about = append(about, *e.Restore.Prefix)\n",
		new:     "",
		promise: "a link with a prefix restores nothing outside it",
	},
	{
		file:    "value/op.go",
		old:     "		if (sum > x) != (y > 0) && y != 0 {\n",
		new:     "		if false {\n",
		promise: "an addition that overflows is refused",
	},
	{
		file:    "internal/ledger/image.go",
		old:     "	im.duty.add(im.c.owes)\n",
		new:     "",
		promise: "what a killed process still had to erase is erased by the next one",
	},
	{
		file:    "internal/admission/pool.go",
		old:     "	subtract(p.links, h.who.Link, h.n)\n",
		new:     "",
		promise: "memory that a request held is available to its link again",
	},
	{
		file:    "internal/rules/rules.go",
		old:     " && rec.Tag().NewerThan(*e.Seen) && ",
		new:     " && ",
		promise: "a put that replaced only what its writer had seen reports nothing",
	},
	{
		file:    "internal/rules/request.go",
		old:     "	receipt.Replaced = replaced\n",
		new:     "",
		promise: "a repeated put reports again what it replaced",
	},
	{
		file:    "internal/access/make.go",
		old:     "!board.accepts(life) ||",
		new:     "life == \"\" ||",
		promise: "tokens of earlier boards of a name don't count, and are dropped",
	},
	{
		file:    "internal/access/make.go",
		old:     "!ok || request != once.Request {\n",
		new:     "!ok || request != once.Body {\n",
		promise: "a repeated request for a token makes no second one",
	},
	{
		file:    "mobile/boards/board.go",
		old:     "	if errors.Is(err, board.ErrQueued) {\n",
		new:     "	if false {\n",
		promise: "a queued change is no error in Kotlin, Swift and Java",
	},

	{
		file:    "internal/ledger/queue.go",
		old:     "case r == q.nextLeader, r.turn == nil:",
		new:     "case r == q.nextLeader:",
		promise: "a leader that waits too long does not expire",
	},
	{
		file:    "internal/cli/serving/process.go",
		old:     "	defer debug.SetMemoryLimit(math.MaxInt64) // as it was\n",
		new:     "	_ = math.MaxInt64\n",
		promise: "a memory limit ends with the server that set it",
	},
}
