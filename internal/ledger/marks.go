package ledger

import (
	"sort"

	"github.com/small-pantry/pantry/internal/journal"
)

// Told is a commit as it can be told apart from every other, here and elsewhere: by
// the file's id, its version, and the crc of its line as it was first written.
type Told struct {
	ID      string
	Version int64
	End     journal.End
}

// marks remembers which commits there were. Guarded by Ledger.mu.
type marks struct {
	most int    // how many; 0: none
	id   string // of the file
	all  []told // by version
}

type told struct {
	version int64
	end     journal.End
}

func (m *marks) add(t told) {
	if m.most == 0 {
		return
	}
	if len(m.all) >= m.most+m.most/4 { // not a copy at each commit
		m.all = append(m.all[:0], m.all[len(m.all)-m.most:]...)
	}
	m.all = append(m.all, t)
}

// anew begins with what a file tells of its commits, those behind its base.
func (m *marks) anew(header *journal.Header, commits []told) {
	if m.most == 0 {
		return
	}
	m.id, m.all = header.ID, append(m.all[:0], told{header.Base, header.End})
	for _, t := range commits {
		if t.version > header.Base {
			m.add(t)
		}
	}
}

// KeepMarks has the marks of so many commits be known from now on, of a ledger that was opened
// without. The errors are ErrReadOnly and ErrClosed.
func (l *Ledger) KeepMarks(most int) error {
	if l.opts.ReadOnly {
		return ErrReadOnly
	}
	l.io.Lock()
	defer l.io.Unlock()
	if l.isClosed() {
		return ErrClosed
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.opts.Marks == 0 {
		l.opts.Marks, l.marks.most = most, most
		l.marks.id, l.marks.all = l.head.Header.ID, []told{{l.head.Version, l.head.End}}
	}
	return nil
}

func (m *marks) at(version int64) (Told, bool) {
	i := sort.Search(len(m.all), func(i int) bool { return m.all[i].version >= version })
	if i == len(m.all) || m.all[i].version != version {
		return Told{}, false
	}
	return Told{m.id, version, m.all[i].end}, true
}

// Told tells of the commit of a version, if it is known: of the newest commits while
// the ledger is open, and of those that the file tells one by one; Options.Marks says
// of how many. From it on changes can be told.
func (l *Ledger) Told(version int64) (Told, bool) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	if version < l.oldest {
		return Told{}, false
	}
	return l.marks.at(version)
}

// Told is that of the snapshot's version; the zero Told where Options.Marks is 0.
func (s *Snapshot) Told() Told { return s.told }
