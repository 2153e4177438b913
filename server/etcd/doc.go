// Package etcd keeps boards in etcd, so that several servers on several machines answer for
// the same boards: with the same protocol, semantics, marks and guarantees as one server with
// files. What lies where stands in docs/etcd.md.
package etcd
