package ledger

import (
	"sort"

	"github.com/small-pantry/pantry/internal/journal"
)

// A CommitID identifies a commit: the file's id, its version, and the crc of its line as first written.
type CommitID struct {
	ID      string
	Version int64
	End     journal.End
}

// marks remembers commits. Guarded by state.mu.
type marks struct {
	most int            // the number of commits to remember; 0 means none
	id   string         // of the file
	all  []markedCommit // by version
}

type markedCommit struct {
	version int64
	end     journal.End
}

func (m *marks) add(t markedCommit) {
	if m.most == 0 {
		return
	}
	if len(m.all) >= m.most+m.most/4 { // avoids a copy at each commit
		m.all = append(m.all[:0], m.all[len(m.all)-m.most:]...)
	}
	m.all = append(m.all, t)
}

// reset starts over with the commits in a file.
func (m *marks) reset(header *journal.Header, commits []markedCommit) {
	if m.most == 0 {
		return
	}
	m.id, m.all = header.ID, append(m.all[:0], markedCommit{header.Base, header.End})
	for _, t := range commits {
		if t.version > header.Base {
			m.add(t)
		}
	}
}

// KeepMarks sets Options.Marks of an open ledger. The errors are ErrReadOnly and ErrClosed.
func (l *Ledger) KeepMarks(most int) error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	l.io.Lock()
	defer l.io.Unlock()
	if l.Closed() {
		return ErrClosed
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.opts.Marks == 0 {
		l.opts.Marks, l.marks.most = most, most
		l.marks.id, l.marks.all = l.head.Header.ID, []markedCommit{{l.head.Version, l.head.End}}
	}
	return nil
}

func (m *marks) at(version int64) (CommitID, bool) {
	i := sort.Search(len(m.all), func(i int) bool { return m.all[i].version >= version })
	if i == len(m.all) || m.all[i].version != version {
		return CommitID{}, false
	}
	return CommitID{m.id, version, m.all[i].end}, true
}

// Commit returns the commit of the snapshot's version, or the zero CommitID if Options.Marks is 0.
func (s *Snapshot) Commit() CommitID { return s.commit }

// CommitAt returns the commit of a version, if it is known: the newest ones since the ledger was
// opened, and those in the file, up to Options.Marks. Changes can be reported from it on.
func (s *state) CommitAt(version int64) (CommitID, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if version < s.oldest {
		return CommitID{}, false
	}
	return s.marks.at(version)
}
