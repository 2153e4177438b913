package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Rewrite replaces the file, or creates it. The new file has header and lines; kept is the number
// of lines, last the version of the last line, and newest the End of the newest commit. The lock
// must be held. If Rewrite fails before the rename, the old file is unchanged. If only the sync of
// the directory fails, the new file is in place, a power cut can bring back the old one, and
// SyncEntry writes the file again.
func (f *File) Rewrite(header Header, lines []byte, kept int, last int64, newest End) error {
	if err := f.MayReplace(); err != nil {
		return err
	}
	if err := f.syncParents(); err != nil {
		return err
	}
	header.Dir = f.dirMark()
	head := header.append(nil)
	path := newPath(f.dir, f.name)
	// Don't write into a file that a dead writer left there, or into a link.
	if err := f.disk.Remove(path); err != nil && !isAbsent(err) {
		return err
	}
	h, err := f.disk.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	var now Extent
	steps := func() error {
		if err := f.write(h, head, 0); err != nil {
			return err
		}
		if err := f.write(h, lines, int64(len(head))); err != nil {
			return err
		}
		if err := h.Sync(); err != nil {
			return err
		}
		if now, err = h.Look(); err != nil {
			return err
		}
		return f.disk.Rename(path, f.path)
	}
	if err := steps(); err != nil {
		return errors.Join(err, h.Close(), f.disk.Remove(path))
	}
	f.retire()
	f.handle, f.id, f.header, f.head = h, now.ID, &header, head
	f.cursor = cursor{end: int64(len(head) + len(lines)), last: last, line: int64(kept), newest: newest}
	f.keepEnd(head)
	f.extendEnd(lines)
	return f.syncName()
}

// WriteAgain replaces the file by a copy of the counting part of a Reading, and adopts the copy.
// The lock must be held. The errors are those of Rewrite.
func (f *File) WriteAgain(r *Reading) error {
	data, err := r.Bytes()
	if err != nil {
		return err
	}
	return f.Rewrite(*r.header, data[len(r.head):r.cursor.end], int(r.cursor.line), r.cursor.last, r.cursor.newest)
}

// Free returns how many bytes this user can still write to the file's disk, if that is known.
func (f *File) Free() (bytes int64, known bool) {
	if s, ok := f.disk.(interface {
		Free(dir string) (int64, bool)
	}); ok {
		return s.Free(f.dir)
	}
	return free(f.dir)
}

// mayCreate returns an error if this user must not create files in the directory: the app could not
// open them.
func (f *File) mayCreate() error {
	uid, own, err := OS.Owner(f.dir)
	if err == nil && !own {
		err = &OwnerError{f.dir, uid}
	}
	return err
}

// MayReplace returns an error unless this user may replace the data file: its owner may, or the
// owner of the directory if there is no file.
func (f *File) MayReplace() error {
	uid, own, err := f.disk.Owner(f.path)
	switch {
	case isAbsent(err):
		return f.mayCreate()
	case err == nil && !own:
		err = &OwnerError{f.path, uid}
	}
	return err
}

// An OwnerError is returned if only another user may create or replace a file: the apps of that user
// could not open a file of this one. It wraps fs.ErrPermission.
type OwnerError struct {
	Path string // the file, or its directory
	UID  int    // the owner
}

func (e *OwnerError) Error() string {
	return fmt.Sprintf("%v: %s belongs to user %d, and only that user may create and replace files there", fs.ErrPermission, e.Path, e.UID)
}

// Unwrap returns fs.ErrPermission.
func (e *OwnerError) Unwrap() error { return fs.ErrPermission }

// retire closes the replaced file later. With a test's disk it is closed at once, so that the order
// of steps is fixed.
func (f *File) retire() {
	if _, ok := f.handle.(interface{ Fd() uintptr }); !ok {
		f.drop()
		return
	}
	f.retired.add(f.handle, f.cursor.end)
	f.handle = nil
}

// CopyTail copies a torn tail to NAME.cut-VERSION and returns the path.
func (f *File) CopyTail(tail *Tail, version int64) (string, error) {
	return f.writeCopy(fmt.Sprint(cutCopy, version), tail.Bytes)
}

// CopyDamaged copies a damaged file to NAME.damaged-TIME and returns the path.
func (f *File) CopyDamaged(data []byte, at time.Time) (string, error) {
	return f.writeCopy(damagedCopy+at.UTC().Format("20060102T150405.000Z"), data)
}

// writeCopy writes a copy and makes its directory entry durable.
func (f *File) writeCopy(suffix string, data []byte) (string, error) {
	path := filepath.Join(f.dir, f.name+"."+suffix)
	for n := 2; ; n++ {
		h, err := f.disk.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if errors.Is(err, fs.ErrExist) && n < 1000 {
			path = filepath.Join(f.dir, fmt.Sprintf("%s.%s-%d", f.name, suffix, n))
			continue
		}
		if err != nil {
			return "", err
		}
		err = f.write(h, data, 0)
		if err == nil {
			err = h.Sync()
		}
		if err = errors.Join(err, h.Close()); err != nil {
			return "", errors.Join(err, f.disk.Remove(path))
		}
		return path, dirs.sync(f.disk, f.dir)
	}
}

// Remove removes the data file and its copies, and syncs the directory. The lock file stays, since
// it must never be removed. The lock must be held.
func (f *File) Remove() error {
	if err := f.MayReplace(); err != nil {
		return err
	}
	copies, err := f.Copies()
	if err != nil {
		return err
	}
	return f.remove(append(copies, f.path, newPath(f.dir, f.name)))
}

// Copies returns the paths of the copies of damaged files and torn tails beside the file.
func (f *File) Copies() (paths []string, err error) {
	files, err := os.ReadDir(f.dir)
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		kind, ours := strings.CutPrefix(file.Name(), f.name+".")
		// a.cut-3.jsonl is the data file of the namespace a.cut-3, not a copy of a's.
		if ours && (strings.HasPrefix(kind, cutCopy) || strings.HasPrefix(kind, damagedCopy)) && !strings.HasSuffix(kind, ".jsonl") {
			paths = append(paths, filepath.Join(f.dir, file.Name()))
		}
	}
	return paths, nil
}

// RemoveCopies removes the copies, syncs the directory, and returns their paths.
func (f *File) RemoveCopies() (paths []string, err error) {
	if paths, err = f.Copies(); err != nil || len(paths) == 0 {
		return nil, err
	}
	return paths, f.remove(paths)
}

func (f *File) remove(paths []string) error {
	for _, path := range paths {
		if err := f.disk.Remove(path); err != nil && !isAbsent(err) {
			return err
		}
	}
	return dirs.sync(f.disk, f.dir)
}

// The suffixes of copies.
const (
	cutCopy     = "cut-"
	damagedCopy = "damaged-"
)
