// Package ledger is the state of a journal: entries with versions, atomic commits, snapshots, and
// notification of changes. A namespace on a device and a board on a server are both a Ledger.
//
// Commit takes a function, the judge, that sees the newest state, including the commits of other
// processes, and decides what to change or refuses. Commits that wait at the same time share one
// write and one sync.
//
// A change becomes visible once it is synced. Readers take no lock: a Node points to its newest
// Record, which never changes.
package ledger
