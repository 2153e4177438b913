package journal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// A File is a journal. Its methods say when the lock must be held.
type File struct {
	disk      Disk
	dir, name string // where the file really lies, links followed
	path      string
	readOnly  bool

	lock *lock // nil for a reader that has no lock file to share
	position
	// nameless says that a power cut may take the file's name, or give it back to
	// another: the directory must be synced before anything is acknowledged.
	nameless bool
	lapsed   ID // of a file whose sync has failed: see SyncRead

	retired retired // were replaced, and are still open
}

// A position is an open data file, and how far it is known.
type position struct {
	handle Handle // nil while there is no file
	id     ID
	header *Header // never changed, only replaced; nil before the first reading
	head   []byte  // the header's line
	end    []byte  // of the part that counts, at most endKept bytes
	cursor cursor
}

// endKept is how many bytes of the end are compared to recognise a file.
const endKept = 256

// keepEnd keeps the end of all that counts.
func (p *position) keepEnd(counts []byte) {
	p.end = p.end[:0]
	p.extendEnd(counts)
}

// extendEnd takes in what counts behind it.
func (p *position) extendEnd(lines []byte) {
	lines = lines[max(len(lines)-endKept, 0):]
	if over := len(p.end) + len(lines) - endKept; over > 0 {
		p.end = p.end[:copy(p.end, p.end[over:])]
	}
	p.end = append(p.end, lines...)
}

// A Reading is what was read of a file and does not count yet: Adopt has the
// File stand there. Until then the File is as it was.
type Reading struct {
	position
	Taken   int   // how many lines counted
	Tail    *Tail // what stands behind them; nil: nothing
	anew    bool  // the handle was opened for it
	adopted bool  // the File has the handle now
	size    int64 // of all of it
}

// Version is that of the last line that counts.
func (r *Reading) Version() int64 { return r.cursor.last }

// Close lets go of a Reading that was not adopted.
func (r *Reading) Close() {
	if r != nil && r.anew && !r.adopted {
		r.handle.Close()
	}
}

// Attach gives the journal called name in dir; it may not exist yet. A writer
// makes dir (0700) and the lock file where they are missing; a reader makes
// nothing. Links are followed here, once: what replaces the file replaces what
// the link leads to.
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

// MakeDir makes a directory, with mode 0700, and what is missing above it, and syncs the names
// of all that it makes, each before what comes to stand in it.
func MakeDir(disk Disk, dir string) error {
	var missing []string // the lowest first
	for d := dir; ; d = filepath.Dir(d) {
		if _, err := os.Stat(d); !isAbsent(err) || d == filepath.Dir(d) {
			break
		}
		missing = append(missing, d)
	}
	for _, d := range slices.Backward(missing) {
		if err := os.Mkdir(d, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := disk.SyncDir(filepath.Dir(d)); err != nil {
			return fmt.Errorf("sync the directory that %s was made in: %w", d, err)
		}
	}
	return os.MkdirAll(dir, 0o700) // which says what else may stand there
}

// followLinks settles where the file lies, and with it its lock.
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
		return fmt.Errorf("the link %s leads to nothing: %w", f.path, err)
	}
	f.path, f.dir, f.name = real, filepath.Dir(real), strings.TrimSuffix(filepath.Base(real), ".jsonl")
	return nil
}

// Path is where the data file lies.
func (f *File) Path() string { return f.path }

// Header is the header of the file as it was read or written last; nil before.
// It must not be changed.
func (f *File) Header() *Header { return f.header }

// End is the size of the part that counts.
func (f *File) End() int64 { return f.cursor.end }

// Newest is the End of the newest commit.
func (f *File) Newest() End { return f.cursor.newest }

// Version is the version of the last line that counts.
func (f *File) Version() int64 { return f.cursor.last }

// Lock takes the lock within wait: alone for a writer, shared for a reader.
// With certain it is the one that the lock's path leads to at this moment, as
// what is acknowledged needs. The error wraps ErrBusy when somebody else keeps it.
func (f *File) Lock(certain bool, wait time.Duration) error {
	return f.acquire(certain, f.readOnly, wait)
}

// RLock takes the lock shared, to read only.
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

// Unlock gives the lock back.
func (f *File) Unlock() error {
	if f.lock == nil {
		return nil
	}
	return f.lock.release()
}

// Fresh says what a writer or follower finds before it reads on: whether
// another file stands under the path than the one that is open, and whether that
// has grown. It costs one look at the path; only a file that has another size
// than expected is read, a little, to see that it is the one that is known.
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

// recognise says whether the open file begins and goes on as it is known: a
// copy may have been written into it.
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

// Load opens the file that stands under the path, and reads all of it. The
// error is fs.ErrNotExist where there is none; a *NewerError; a *DamageError,
// with which the Reading can be salvaged. Only a writer needs the lock: a
// reader without it may see a torn tail.
func (f *File) Load(c Consumer) (r *Reading, err error) {
	flag := os.O_RDWR
	if f.readOnly {
		flag = os.O_RDONLY
	}
	h, err := f.disk.OpenFile(f.path, flag, 0)
	if err != nil {
		return nil, err
	}
	r = &Reading{anew: true, position: position{header: &Header{}}}
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

// ReadOn reads what was appended since the last reading that was adopted.
func (f *File) ReadOn(c Consumer) (*Reading, error) {
	r := &Reading{position: f.position}
	r.end = bytes.Clone(f.end) // the File's own stays as it is
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

// Adopt has the File stand where the reading ended, or with salvaged behind all
// of it: a reader of a damaged file notices only what changes later.
func (f *File) Adopt(r *Reading, salvaged bool) {
	if r.anew {
		f.drop()
		f.nameless = !f.readOnly // whoever made it may have died before its name was synced
	}
	f.position, r.adopted = r.position, true
	if salvaged {
		f.cursor.end = r.size
		f.end = f.end[:0]
	}
}

// Bytes gives all of what was read, whatever stands in it.
func (r *Reading) Bytes() ([]byte, error) { return readFrom(r.handle, 0) }

// SyncRead makes what was read durable. When that has failed once, it fails until
// another file is there: the kernel may have dropped what was to be synced, and
// would say success the next time.
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

var errLapsed = errors.New("a sync has failed before")

// Cut takes off the tail, and syncs. The lock must be held.
func (r *Reading) Cut() error {
	r.Tail = nil
	return cutAt(r.handle, r.cursor.end)
}

func cutAt(h Handle, end int64) error {
	if err := h.Truncate(end); err != nil {
		return err
	}
	return h.Sync()
}

func readFrom(h Handle, offset int64) ([]byte, error) {
	now, err := h.Look()
	if err != nil {
		return nil, err
	}
	return readInto(make([]byte, max(now.Size-offset, 0)), h, offset)
}

// readInto reads what there is from an offset on, as much as data has room for.
func readInto(data []byte, h Handle, from int64) ([]byte, error) {
	n, err := h.ReadAt(data, from)
	if err == io.EOF {
		err = nil
	}
	return data[:n], err
}

// Append writes lines, which must be finished and follow the last version,
// behind the part that counts. They count for this File once Advance is
// called, which must wait for Sync. The lock must be held.
func (f *File) Append(lines []byte) error {
	return f.write(f.handle, lines, f.cursor.end)
}

// write writes all of data. On a full disk the files that were replaced go first.
func (f *File) write(h Handle, data []byte, at int64) error {
	n, err := h.WriteAt(data, at)
	if IsFull(err) && f.retired.free() {
		n, err = h.WriteAt(data, at)
	}
	if err == nil && n < len(data) {
		err = io.ErrShortWrite
	}
	return err
}

// Advance says that lines, n of them up to version, count now.
func (f *File) Advance(lines []byte, n int, version int64) {
	f.cursor.end += int64(len(lines))
	f.cursor.line += int64(n)
	f.cursor.last = version
	f.cursor.newest = EndOf(lines)
	f.extendEnd(lines)
}

// Sync makes what was appended or truncated durable, and before the first
// time the file's name.
func (f *File) Sync() error {
	if f.nameless {
		if err := f.disk.SyncDir(f.dir); err != nil {
			return fmt.Errorf("sync the directory: %w", err)
		}
		f.nameless = false
	}
	return f.handle.Sync()
}

// CutTail takes off whatever stands behind the part that counts, and syncs.
// The lock must be held.
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
