// Package journal is the file of a namespace or a board: lines of JSON that
// are appended, synced, read, locked and rewritten whole. It knows bytes,
// lines and versions, not entries: what a line says is its Consumer's business.
//
// # The file
//
// A header line, then Header.Lines lines with ascending versions up to
// Header.Base (the state at that version), then one line for each later
// commit, base+1, base+2, … without a gap. Each line, the header too, ends in
//
//	,"crc":"xxxxxxxx"}
//
// and a newline: 18 bytes that hold the CRC-32C of all bytes of the line
// before them, in lower-case hex.
//
// # What a reader makes of it
//
// A line counts with its newline, its crc and the version that is expected
// there. After the first byte that doesn't count there are two cases. Each line
// tells up to which version all was synced when it was written (absent: up to
// its own version minus one). If an intact line further on was written when
// more was synced than is left, promised bytes are gone: damage. Otherwise no
// promise is broken, whatever the rest holds, and it is a torn tail: readers
// ignore it, the next writer cuts it.
//
// # The order of writes
//
// Append: write all lines in one call, then sync the data, then show them. A
// line that is written and not synced may be lost or half there after a power
// cut, which is a torn tail.
//
// Rewrite: write .NAME.new whole, sync it, rename it over the file, sync the
// directory. Before the rename the old file stands; after it, without the
// directory sync, a power cut may bring the old one back, so nothing may be
// acknowledged on the new one before.
//
// All of it happens under the lock on .NAME.lock, which is never renamed or
// removed: a lock on the data file would be lost with each rename.
//
// A File is not safe for concurrent use.
package journal
