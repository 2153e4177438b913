// Package etcd stores boards in etcd, so that several servers on several machines serve the same
// boards with the same protocol, semantics, marks and promises as one server with files. The
// command smallpantry-etcd runs such a server; docs/machines.md describes it.
//
// A [Store] is the store of a server. Each board is a ledger, as with files. Its log is stored
// under these keys:
//
//	e               the format, and a random id from the creation or restore of the store
//	a               the hash of the admin token, which is the same on all servers
//	g/BOARD         the name of the group, an etcd of its own, that has the board
//	h/BOARD         the head: version, crc of its commit, first version of the log, checkpoints
//	l/BOARD/FIRST   a batch by its first version: the lines of commits as in a file
//	c/BOARD/ID/NNNN a checkpoint in parts of 512 KiB: the content of a file
//	p/BOARD/ID/NNNN the parts of a batch over 1 MiB
//	s/SERVER        the address of a server for the others, while it lives
//
// A commit is one transaction: if the head is unchanged, it puts a new head and a batch. Otherwise
// the server reads what is new and evaluates the commit again. Commits of several boards at the
// same time share a transaction. All servers watch the keys. A plain read first asks for the newest
// head, once for all that wait.
//
// [Store.Join] makes a server one of several. A board is written by its home as long as that server
// answers, which is fastest, and by any server otherwise, which is as safe.
package etcd
