package journal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// A File is an open journal. Its methods say when the lock must be held.
type File struct {
	disk      Disk
	dir, name string
	path      string
	readOnly  bool

	lock   *lock  // nil for a reader that has no lock file to share
	handle Handle // nil while there is no file
	header Header
	cursor cursor

	retired retired // were replaced, and are still open
}

// Attach gives the journal called name in dir; it may not exist yet. A writer
// makes dir (0700) and the lock file where they are missing; a reader makes nothing.
func Attach(disk Disk, dir, name string, readOnly bool) (*File, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	f := &File{disk: disk, dir: dir, name: name, path: DataPath(dir, name), readOnly: readOnly}
	if !readOnly {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
		if _, err := os.Stat(lockPath(dir, name)); isAbsent(err) {
			if err := mayCreate(dir); err != nil {
				return nil, err
			}
		}
	}
	lock, err := openLock(lockPath(dir, name), readOnly)
	switch {
	case err == nil:
		f.lock = lock
	case !readOnly:
		return nil, err
	}
	return f, nil
}

// Path is where the data file lies.
func (f *File) Path() string { return f.path }

// Header is the header of the file as it was read or written last.
func (f *File) Header() Header { return f.header }

// End is the size of the part that counts.
func (f *File) End() int64 { return f.cursor.end }

// Lock takes the lock within wait: alone for a writer, shared for a reader.
// The error wraps ErrBusy when somebody else keeps it.
func (f *File) Lock(wait time.Duration) error { return f.acquire(f.readOnly, wait) }

// RLock takes the lock shared, to read only.
func (f *File) RLock(wait time.Duration) error { return f.acquire(true, wait) }

func (f *File) acquire(shared bool, wait time.Duration) error {
	if f.lock == nil {
		return nil
	}
	var queue *os.File
	if h, ok := f.handle.(osHandle); ok {
		queue = h.File
	}
	return f.lock.acquire(shared, wait, queue)
}

// Unlock gives the lock back.
func (f *File) Unlock() error {
	if f.lock == nil {
		return nil
	}
	return f.lock.release()
}

// Fresh says what a writer or follower finds before it reads on: whether the
// file it has open was replaced by another, and whether it has grown or is
// new. It costs one stat.
func (f *File) Fresh() (replaced, grown bool, err error) {
	if f.handle == nil {
		exists, err := f.Exists()
		return exists, false, err
	}
	now, err := extentOf(f.handle, f.path)
	if err != nil {
		return false, false, err
	}
	if now.removed || now.size < f.cursor.end {
		return true, false, nil
	}
	return false, now.size > f.cursor.end, nil
}

// Load opens the file and reads all of it anew. The error is fs.ErrNotExist
// where there is none, a *DamageError, or a *NewerError. Only a writer needs
// the lock: a reader without it may see a torn tail.
func (f *File) Load(c Consumer) (*Tail, error) {
	f.drop()
	flag := os.O_RDWR
	if f.readOnly {
		flag = os.O_RDONLY
	}
	h, err := f.disk.OpenFile(f.path, flag, 0)
	if err != nil {
		return nil, err
	}
	f.handle = h
	data, err := readFrom(h, 0)
	if err != nil {
		return nil, err
	}
	size := bytes.IndexByte(data, '\n')
	if size < 0 {
		return nil, &DamageError{Path: f.path, Line: 1, Reason: "the header is missing"}
	}
	header, err := parseHeader(data[:size])
	if err != nil {
		if newer := (*NewerError)(nil); errors.As(err, &newer) {
			return nil, err
		}
		return nil, &DamageError{Path: f.path, Line: 1, Reason: err.Error()}
	}
	f.header = header
	f.cursor = cursor{end: int64(size) + 1, commits: int64(size) + 1}
	if header.Lines == 0 {
		f.cursor.last = header.Base
	}
	if e, ok := c.(Expecter); ok {
		e.Expect(len(data))
	}
	_, tail, err := f.consume(data[size+1:], c)
	return tail, err
}

// ReadOn reads what was appended since the last read, and says how many lines
// counted.
func (f *File) ReadOn(c Consumer) (taken int, tail *Tail, err error) {
	data, err := readFrom(f.handle, f.cursor.end)
	if err != nil {
		return 0, nil, err
	}
	return f.consume(data, c)
}

func (f *File) consume(data []byte, c Consumer) (int, *Tail, error) {
	taken, tail, err := readLines(f.header, &f.cursor, data, c)
	if damage, ok := AsDamage(err); ok {
		damage.Path = f.path
	}
	return taken, tail, err
}

// Bytes gives all of the file, whatever stands in it.
func (f *File) Bytes() ([]byte, error) {
	if f.handle != nil {
		return readFrom(f.handle, 0)
	}
	h, err := f.disk.OpenFile(f.path, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	data, err := readFrom(h, 0)
	return data, errors.Join(err, h.Close())
}

// Skip says that all of the file has been seen, though not all of it counts:
// a reader of a damaged file notices only what changes later.
func (f *File) Skip(size int) { f.cursor.end = int64(size) }

// Reread gives all lines that count to c once more, from the first, and leaves
// the File where it stands.
func (f *File) Reread(c Consumer) error {
	data, err := readFrom(f.handle, 0)
	if err != nil {
		return err
	}
	data = data[:min(f.cursor.end, int64(len(data)))]
	start := bytes.IndexByte(data, '\n') + 1
	cur := cursor{end: int64(start)}
	if f.header.Lines == 0 {
		cur.last = f.header.Base
	}
	_, _, err = readLines(f.header, &cur, data[start:], c)
	return err
}

func readFrom(h Handle, offset int64) ([]byte, error) {
	now, err := extentOf(h, "")
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	buf.Grow(int(max(now.size-offset, 0)) + bytes.MinRead)
	_, err = buf.ReadFrom(io.NewSectionReader(h, offset, 1<<62))
	return buf.Bytes(), err
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

// Advance says that n lines of size bytes up to version count now.
func (f *File) Advance(size, n int, version int64) {
	f.cursor.end += int64(size)
	f.cursor.line += int64(n)
	f.cursor.last = version
}

// Sync makes what was appended or truncated durable.
func (f *File) Sync() error { return f.handle.Sync() }

// CutTail takes off whatever stands behind the part that counts, and syncs.
// The lock must be held.
func (f *File) CutTail() error {
	if err := f.handle.Truncate(f.cursor.end); err != nil {
		return err
	}
	return f.handle.Sync()
}

// SyncDir makes the file's name durable. Whoever opens a file to write does so
// before the first commit: the one who made it may have died before.
func (f *File) SyncDir() error { return f.disk.SyncDir(f.dir) }

// Rewrite puts a new file in place of the old one, or makes the first: header
// and lines, of which there are kept and whose last version is last. The lock
// must be held. When it fails the old file stands.
func (f *File) Rewrite(header Header, lines []byte, kept int, last int64) error {
	if err := f.MayReplace(); err != nil {
		return err
	}
	all := append(header.append(nil), lines...)
	path := newPath(f.dir, f.name)
	h, err := f.disk.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	steps := func() error {
		if err := f.write(h, all, 0); err != nil {
			return err
		}
		if err := h.Sync(); err != nil {
			return err
		}
		return f.disk.Rename(path, f.path)
	}
	if err := steps(); err != nil {
		return errors.Join(err, h.Close())
	}
	f.retire()
	f.handle, f.header = h, header
	f.cursor = cursor{end: int64(len(all)), last: last, line: int64(kept)}
	for range header.Lines + 1 {
		f.cursor.commits += int64(bytes.IndexByte(all[f.cursor.commits:], '\n')) + 1
	}
	return f.disk.SyncDir(f.dir)
}

// Relabel writes the file anew with another id in its header, and all else as
// it is. The lock must be held.
func (f *File) Relabel(id string) error {
	data, err := readFrom(f.handle, 0)
	if err != nil {
		return err
	}
	lines := data[bytes.IndexByte(data, '\n')+1 : f.cursor.end]
	header := f.header
	header.ID = id
	return f.Rewrite(header, lines, int(f.cursor.line), f.cursor.last)
}

// mayCreate says whether this user may make files in dir: what root or a
// second user leaves there, the app could not open.
func mayCreate(dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if uid, own := owner(info); !own {
		return fmt.Errorf("%w: the directory %s belongs to user %d, and what another user makes in it, its apps may not open; run this as that user", fs.ErrPermission, dir, uid)
	}
	return nil
}

// MayReplace says whether this user may put another file in place of the data
// file: only its owner may, or in an empty place the directory's.
func (f *File) MayReplace() error {
	info, err := f.disk.Stat(f.path)
	if isAbsent(err) {
		return mayCreate(f.dir)
	}
	if err != nil {
		return err
	}
	if uid, own := owner(info); !own {
		return fmt.Errorf("%w: %s belongs to user %d, who alone can have it written anew", fs.ErrPermission, f.path, uid)
	}
	return nil
}

func (f *File) drop() {
	if f.handle != nil {
		f.handle.Close()
		f.handle = nil
	}
}

// retire leaves the file that another was renamed over to be closed later. A
// disk of a test has its files closed at once, so that its steps stay in order.
func (f *File) retire() {
	if _, ok := f.handle.(extenter); !ok {
		f.drop()
		return
	}
	f.retired.add(f.handle, f.cursor.end)
	f.handle = nil
}

// Exists says whether the data file is there.
func (f *File) Exists() (bool, error) {
	_, err := f.disk.Stat(f.path)
	if isAbsent(err) {
		return false, nil
	}
	return err == nil, err
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

// Version is the version of the last line that counts.
func (f *File) Version() int64 { return f.cursor.last }

// CopyTail keeps a torn tail beside the file, as NAME.cut-VERSION, and says where.
func (f *File) CopyTail(tail *Tail, version int64) (string, error) {
	return f.keepAside(fmt.Sprintf("cut-%d", version), tail.Bytes)
}

// CopyDamaged keeps a damaged file beside, as NAME.damaged-TIME, and says where.
func (f *File) CopyDamaged(data []byte, at time.Time) (string, error) {
	return f.keepAside("damaged-"+at.UTC().Format("20060102T150405.000Z"), data)
}

func (f *File) keepAside(suffix string, data []byte) (string, error) {
	path := filepath.Join(f.dir, f.name+"."+suffix)
	h, err := f.disk.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	_, err = h.WriteAt(data, 0)
	if err == nil {
		err = h.Sync()
	}
	return path, errors.Join(err, h.Close())
}
