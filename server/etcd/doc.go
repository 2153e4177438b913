// Package etcd keeps boards in etcd, so that several servers on several machines answer for
// the same boards: with the same protocol, semantics, marks and guarantees as one server with
// files. Command smallpantry-etcd runs such a server; docs/operate.md leads there.
//
// A [Store] is what a server keeps its boards in. Each board is a ledger, as it is with files;
// what differs is its log, which lies under these keys:
//
//	e               format, and what is drawn when a store is made or restored
//	a               the hash of the admin token, which is the same on all servers
//	g/BOARD         the name of the group, an etcd of its own, in which the board lies
//	h/BOARD         the head: version, crc of its commit, first version of the log, checkpoints
//	l/BOARD/FIRST   a batch by its first version: the lines of commits as in a file
//	c/BOARD/ID/NNNN a checkpoint in parts of 512 KiB: what a file would hold
//	p/BOARD/ID/NNNN the parts of a batch over 1 MiB
//	s/SERVER        how the other servers reach one, for as long as it lives
//
// A commit is one transaction: where the head is as it was, a new head and a batch are put;
// else what stands there is taken in and the commit is judged again. What several boards
// commit at the same time goes as one. All servers hear of it by a watch; a plain read asks
// for the newest head first, once for all who wait.
//
// [Store.Join] makes a server one of several: a board is written to by its home as long as
// that one answers, which is fastest, and from anywhere else otherwise, which is as safe.
package etcd
