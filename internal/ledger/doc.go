// Package ledger is what a journal adds up to: entries with versions, commits
// that happen whole or not at all, snapshots, and word of what changed. The
// namespace on a device and the board of a server's embedded engine are both a
// Ledger; there is one way to commit.
//
// A commit is judged, not just written: Commit takes a function that sees the
// state as it will be when its turn comes (under the file's lock, behind the
// commits of other processes) and says what to change, or refuses. Commits
// that wait at the same time share one write and one sync.
//
// Nothing is visible before it is synced. Readers take no lock: a Node holds a
// pointer to its newest Record, which never changes.
package ledger
