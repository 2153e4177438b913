package ledger

import (
	"errors"
	"slices"
	"time"

	"github.com/small-pantry/pantry/internal/entry"
)

// A Result is the result of a commit.
type Result struct {
	*Stamp            // of the commit; if Changed is false, of the newest commit before it
	Changed bool      // false: everything had these values already, and there is no new version
	Before  *CommitID // the commit before; nil if Options.Marks is 0
	After   *CommitID // this commit; if Changed is false, Before
	Duty    error     // a *DutyError if the commit has to erase old bytes and that failed; it is retried
	owes    bool
}

// commitGroup evaluates requests and stores their changes. It reports whether the file should then
// be compacted.
func (l *Ledger) commitGroup(group []*request) (due bool) {
	l.io.Lock()
	defer l.io.Unlock()
	defer l.log.Release()
	defer l.scratch.settle()
	// One strict commit makes the whole group strict, even if it changes nothing.
	strict := slices.ContainsFunc(group, func(r *request) bool { return r.within <= 0 })
	judged := false // on the newest state
	var b *batch
	err := l.retryBehind(func() error {
		if err := l.mend(); err != nil {
			return err
		}
		if err := l.payDuty(false); errors.Is(err, ErrBehind) {
			return err
		}
		b = l.judgeAll(group)
		err := l.write(Batch{Lines: b.lines, Count: len(b.commits), Sync: strict, Wait: l.queue.left(group)})
		judged = err == nil || errors.Is(err, ErrNotStored) || errors.Is(err, ErrUncertain)
		return err
	})
	l.queue.took = l.head.Took
	switch {
	case !judged:
		l.queue.failed(group, err)
		return false
	case err != nil:
		// A commit that changed nothing can rest on one that was not stored, so it fails too.
		for _, r := range group {
			if r.err == nil {
				r.err = err
			}
		}
		return false
	case !strict && len(b.commits) > 0:
		l.flushWithin(group)
	}
	l.publish(b.commits)
	if cap(b.lines) > 1<<20 {
		l.scratch = batch{} // don't keep the memory of one large commit
	}
	return l.dueForCompaction()
}

// lastCommit returns the newest commit.
func (l *Ledger) lastCommit() *CommitID {
	if l.opts.Marks == 0 {
		return nil
	}
	return &CommitID{l.head.Header.ID, l.head.Version, l.head.End}
}

// timeText formats a time for a line. Many commits have the same time.
func (l *Ledger) timeText(ms int64) string {
	if l.at.text == "" || l.at.ms != ms {
		l.at.ms, l.at.text = ms, entry.FormatTime(time.UnixMilli(ms))
	}
	return l.at.text
}

func (r *request) call(tx *Tx) error {
	defer func() { r.panicked = recover() }()
	return r.judge.Judge(tx)
}

// publish makes commits visible. io must be held.
func (l *Ledger) publish(commits []pending) {
	for i := range commits {
		l.duty.add(commits[i].owes)
		l.schemaInFile = l.schemaInFile || commits[i].schema >= 0
	}
	l.state.publish(commits, l.opts.Now)
}
