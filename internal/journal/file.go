package journal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// A File is a journal in a file. Its methods say when the lock must be held.
type File struct {
	disk      Disk
	dir, name string // where the file is, after following links
	path      string
	readOnly  bool

	lock *lock // nil for a reader without access to the lock file
	position
	entry    entryState
	dropped  ID      // the file whose entry a failed sync may have dropped
	parents  bool    // the entries of the directories above are durable
	problems []error // see Problems
	lapsed   ID      // the file whose sync has failed: see SyncRead

	retired retired // replaced files that are still open
}

// A position is an open data file and how far it has been read.
type position struct {
	handle Handle // nil while there is no file
	id     ID
	header *Header // never changed, only replaced; nil before the first reading
	head   []byte  // the header's line
	end    []byte  // the last bytes of the counting part, at most endKept
	cursor cursor
}

// endKept is how many bytes at the end are compared to recognise a file.
const endKept = 256

// keepEnd remembers the end of the counting part.
func (p *position) keepEnd(counts []byte) {
	p.end = p.end[:0]
	p.extendEnd(counts)
}

// extendEnd appends lines to the remembered end.
func (p *position) extendEnd(lines []byte) {
	lines = lines[max(len(lines)-endKept, 0):]
	if over := len(p.end) + len(lines) - endKept; over > 0 {
		p.end = p.end[:copy(p.end, p.end[over:])]
	}
	p.end = append(p.end, lines...)
}

// Attach returns the journal called name in dir, which need not exist. A writer creates dir (0700)
// and the lock file if they are missing; a reader creates nothing. Links are followed here, once: a
// replacement replaces the link's target.
func Attach(disk Disk, dir, name string, readOnly bool) (*File, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if !readOnly {
		if err := MakeDir(disk, dir); err != nil {
			return nil, err
		}
	}
	f := &File{disk: disk, dir: dir, name: name, readOnly: readOnly}
	if err := f.followLinks(); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(lockPath(f.dir, f.name)); !readOnly && isAbsent(err) {
		if err := f.mayCreate(); err != nil {
			return nil, err
		}
	}
	lock, err := openLock(lockPath(f.dir, f.name), readOnly)
	switch {
	case err == nil:
		f.lock = lock
	case !readOnly:
		return nil, err
	}
	return f, nil
}

// followLinks resolves the paths of the file and its lock.
func (f *File) followLinks() error {
	if real, err := filepath.EvalSymlinks(f.dir); err == nil {
		f.dir = real
	}
	f.path = DataPath(f.dir, f.name)
	info, err := os.Lstat(f.path)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return nil
	}
	real, err := filepath.EvalSymlinks(f.path)
	if err != nil {
		return fmt.Errorf("the link %s has no target: %w", f.path, err)
	}
	f.path, f.dir, f.name = real, filepath.Dir(real), strings.TrimSuffix(filepath.Base(real), ".jsonl")
	return nil
}

// Path returns the path of the data file.
func (f *File) Path() string { return f.path }

// Header returns the header as last read or written, or nil. It must not be changed.
func (f *File) Header() *Header { return f.header }

// End returns the size of the counting part.
func (f *File) End() int64 { return f.cursor.end }

// Newest returns the End of the newest commit.
func (f *File) Newest() End { return f.cursor.newest }

// Version returns the version of the last line that counts.
func (f *File) Version() int64 { return f.cursor.last }

// Lock takes the lock, exclusive for a writer and shared for a reader, and waits at most wait. With
// certain it also checks that the lock's path still leads to the locked file, as an acknowledgement
// requires. The error wraps ErrBusy if another holder keeps the lock.
func (f *File) Lock(certain bool, wait time.Duration) error {
	return f.acquire(certain, f.readOnly, wait)
}

// RLock takes the lock shared.
func (f *File) RLock(wait time.Duration) error { return f.acquire(false, true, wait) }

func (f *File) acquire(certain, shared bool, wait time.Duration) error {
	if f.lock == nil {
		return nil
	}
	var queue *os.File
	if h, ok := f.handle.(osHandle); ok {
		queue = h.File
	}
	return f.lock.acquireCertainly(certain, shared, wait, queue)
}

// Unlock releases the lock.
func (f *File) Unlock() error {
	if f.lock == nil {
		return nil
	}
	return f.lock.release()
}

// Fresh reports whether another file is at the path, and whether the open file has grown. It looks
// at the path once. Only if the size is not the expected one does it read a few bytes to recognise
// the file.
func (f *File) Fresh() (replaced, grown bool, err error) {
	now, err := f.disk.Look(f.path)
	switch {
	case isAbsent(err):
		return f.handle != nil, false, nil
	case err != nil:
		return false, false, err
	case f.handle == nil, now.ID != f.id, now.Size < f.cursor.end:
		return true, false, nil
	case now.Size == f.cursor.end:
		return false, false, nil
	}
	known, err := f.recognise()
	return !known, known, err
}

// recognise reports whether the open file still has the known header and end: a copy can have been
// written into it.
func (f *File) recognise() (bool, error) {
	for _, part := range []struct {
		at   int64
		want []byte
	}{{0, f.head}, {f.cursor.end - int64(len(f.end)), f.end}} {
		have := make([]byte, len(part.want))
		if _, err := f.handle.ReadAt(have, part.at); err != nil && err != io.EOF {
			return false, err
		}
		if !bytes.Equal(have, part.want) {
			return false, nil
		}
	}
	return true, nil
}

// Load opens the file at the path and reads all of it. The error is fs.ErrNotExist, a *NewerError,
// or a *DamageError, with which the Reading can be salvaged. Only a writer needs the lock: a reader
// without it can see a torn tail.
func (f *File) Load(c Consumer) (r *Reading, err error) {
	flag := os.O_RDWR
	if f.readOnly {
		flag = os.O_RDONLY
	}
	h, err := f.disk.OpenFile(f.path, flag, 0)
	if err != nil {
		return nil, err
	}
	r = &Reading{opened: true, position: position{header: &Header{}}}
	defer func() {
		if _, damaged := AsDamage(err); err != nil && !damaged {
			r.Close()
			r = nil
		}
	}()
	r.handle = h
	now, err := h.Look()
	if err != nil {
		return r, err
	}
	r.id = now.ID
	data, err := readFrom(h, 0)
	if err != nil {
		return r, err
	}
	r.size = int64(len(data))
	size := bytes.IndexByte(data, '\n')
	if size < 0 {
		return r, &DamageError{Path: f.path, Line: 1, Reason: "the header is missing"}
	}
	header, err := parseHeader(data[:size])
	if err != nil {
		if newer := (*NewerError)(nil); errors.As(err, &newer) {
			return r, err
		}
		return r, &DamageError{Path: f.path, Line: 1, Reason: err.Error()}
	}
	r.header = &header
	r.head = bytes.Clone(data[:size+1])
	r.cursor = cursor{end: int64(size) + 1, newest: r.header.End}
	if r.header.Lines == 0 {
		r.cursor.last = r.header.Base
	}
	if e, ok := c.(Expecter); ok {
		e.Expect(len(data))
	}
	err = f.consume(r, data[size+1:], c)
	r.keepEnd(data[:r.cursor.end])
	return r, err
}

// ReadOn reads what was appended since the last adopted reading.
func (f *File) ReadOn(c Consumer) (*Reading, error) {
	r := &Reading{position: f.position}
	r.end = bytes.Clone(f.end) // the File's own must not change yet
	data, err := readFrom(f.handle, f.cursor.end)
	if err != nil {
		return nil, err
	}
	r.size = f.cursor.end + int64(len(data))
	if err := f.consume(r, data, c); err != nil {
		return r, err
	}
	r.extendEnd(data[:r.cursor.end-f.cursor.end])
	return r, nil
}

func (f *File) consume(r *Reading, data []byte, c Consumer) (err error) {
	r.Taken, r.Tail, err = readLines(*r.header, &r.cursor, data, c)
	if damage, ok := AsDamage(err); ok {
		damage.Path = f.path
	}
	return err
}

// Adopt moves the File to the end of the reading, or with salvaged to the end of the whole file, so
// that a reader of a damaged file notices only later changes.
func (f *File) Adopt(r *Reading, salvaged bool) {
	if r.opened {
		f.drop()
		if f.entry = entryUnknown; r.id == f.dropped {
			f.entry = entryFailed
		}
	}
	f.position, r.adopted = r.position, true
	if salvaged {
		f.cursor.end = r.size
		f.end = f.end[:0]
	}
}

// SyncRead makes what was read durable. Once it has failed, it fails until the file is replaced:
// the kernel can have dropped the pages and report success the next time.
func (f *File) SyncRead(r *Reading) error {
	if f.lapsed == r.id {
		return errLapsed
	}
	err := r.handle.Sync()
	if err != nil {
		f.lapsed = r.id
	}
	return err
}

var errLapsed = errors.New("an earlier sync of this file failed")

// Append writes finished lines after the counting part. They count for this File after Advance,
// which must follow Sync. The lock must be held.
func (f *File) Append(lines []byte) error {
	return f.write(f.handle, lines, f.cursor.end)
}

// write writes all of data. On a full disk it first frees the replaced files.
func (f *File) write(h Handle, data []byte, at int64) error {
	n, err := h.WriteAt(data, at)
	if IsFull(err) && f.retired.free() {
		n, err = h.WriteAt(data, at)
	}
	if err == nil && n < len(data) {
		err = io.ErrShortWrite
	}
	if IsFull(err) {
		if room, known := f.Free(); known {
			err = fmt.Errorf("%w: %d bytes are needed, and %d are free", err, len(data), room)
		}
	}
	return err
}

// Advance records that n lines, up to version, count now.
func (f *File) Advance(lines []byte, n int, version int64) {
	f.cursor.end += int64(len(lines))
	f.cursor.line += int64(n)
	f.cursor.last = version
	f.cursor.newest = EndOf(lines)
	f.extendEnd(lines)
}

// Sync makes appended or truncated data durable. For the directory entry, see SyncEntry.
func (f *File) Sync() error {
	return f.handle.Sync()
}

// CutTail removes everything after the counting part and syncs. The lock must be held.
func (f *File) CutTail() error { return cutAt(f.handle, f.cursor.end) }

func (f *File) drop() {
	if f.handle != nil {
		f.handle.Close()
		f.handle = nil
	}
}

// Close closes the file and its lock.
func (f *File) Close() error {
	var errs []error
	if f.handle != nil {
		errs = append(errs, f.handle.Close())
		f.handle = nil
	}
	if f.lock != nil {
		errs = append(errs, f.lock.file.Close())
		f.lock = nil
	}
	f.retired.free()
	if err := errors.Join(errs...); err != nil {
		return fmt.Errorf("close %s: %w", f.path, err)
	}
	return nil
}
