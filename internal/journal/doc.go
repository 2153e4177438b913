// Package journal is the file of a namespace or a board: lines of JSON that are appended, synced,
// read, locked and rewritten. It knows bytes, lines and versions, but not entries: a Consumer
// interprets the lines.
//
// # The file
//
// The file has a header line, then Header.Lines lines with ascending versions up to Header.Base,
// which hold the state at that version, then one line for each later commit, base+1, base+2, …
// without a gap. Each line, including the header, ends in
//
//	,"crc":"xxxxxxxx"}
//
// and a newline. These 18 bytes hold the CRC-32C of all earlier bytes of the line, in lower-case
// hex.
//
// # Reading
//
// A line counts if it has its newline, its crc and the expected version. After the first byte that
// does not count there are two cases. Each line says up to which version everything was synced when
// it was written (if it does not: up to its own version minus one). If a later intact line was
// written when more was synced than is left, synced bytes are missing, and the file is damaged.
// Otherwise the rest is a torn tail. Readers ignore it, and the next writer
// truncates it.
//
// # The order of writes
//
// Append writes all lines in one call, then syncs the data. Only then are they visible. After a
// power cut, a line that was not synced can be missing or incomplete, which is a torn tail.
//
// Rewrite writes .NAME.new, syncs it, renames it over the file, and syncs the directory. Until the
// rename the old file is in place. Between the rename and the sync of the directory, a power cut
// can bring the old file back. So nothing on the new file is acknowledged before that sync.
//
// All of this happens under the lock on .NAME.lock. That file is never renamed or removed. A lock
// on the data file would be lost with each rename.
//
// A File is not safe for concurrent use.
package journal
