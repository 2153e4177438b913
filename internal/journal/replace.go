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

// Rewrite puts a new file in place of the old one, or makes the first: header
// and lines, of which there are kept, whose last version is last and whose newest commit
// has the End newest. The lock
// must be held. When it fails the old file stands, but for the error of syncing
// the directory: then a power cut may bring the old one back, and Sync fails
// until the directory is synced.
func (f *File) Rewrite(header Header, lines []byte, kept int, last int64, newest End) error {
	if err := f.MayReplace(); err != nil {
		return err
	}
	head := header.append(nil)
	path := newPath(f.dir, f.name)
	// What a writer that died has left there, or somebody a link, is not written into.
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
	f.nameless = true
	if err := f.disk.SyncDir(f.dir); err != nil {
		return fmt.Errorf("sync the directory: %w", err)
	}
	f.nameless = false
	return nil
}

// WriteAnew puts a new file in place that holds what counts of what was read, and
// has the File stand there. The lock must be held. Errors are those of Rewrite.
func (f *File) WriteAnew(r *Reading) error {
	data, err := r.Bytes()
	if err != nil {
		return err
	}
	return f.Rewrite(*r.header, data[len(r.head):r.cursor.end], int(r.cursor.line), r.cursor.last, r.cursor.newest)
}

// mayCreate says whether this user may make files in the directory: what root
// or a second user leaves there, the app could not open.
func (f *File) mayCreate() error {
	uid, own, err := OS.Owner(f.dir)
	if err == nil && !own {
		err = fmt.Errorf("%w: the directory %s belongs to user %d, and what another user makes in it, its apps may not open; run this as that user", fs.ErrPermission, f.dir, uid)
	}
	return err
}

// MayReplace says whether this user may put another file in place of the data
// file: only its owner may, or in an empty place the directory's.
func (f *File) MayReplace() error {
	uid, own, err := f.disk.Owner(f.path)
	switch {
	case isAbsent(err):
		return f.mayCreate()
	case err == nil && !own:
		err = fmt.Errorf("%w: %s belongs to user %d, who alone can have it written anew", fs.ErrPermission, f.path, uid)
	}
	return err
}

// retire leaves the file that another was renamed over to be closed later. A
// disk of a test has its files closed at once, so that its steps stay in order.
func (f *File) retire() {
	if _, ok := f.handle.(interface{ Fd() uintptr }); !ok {
		f.drop()
		return
	}
	f.retired.add(f.handle, f.cursor.end)
	f.handle = nil
}

// CopyTail keeps a torn tail beside the file, as NAME.cut-VERSION, and says where.
func (f *File) CopyTail(tail *Tail, version int64) (string, error) {
	return f.keepAside(fmt.Sprint(cutCopy, version), tail.Bytes)
}

// CopyDamaged keeps a damaged file beside, as NAME.damaged-TIME, and says where.
func (f *File) CopyDamaged(data []byte, at time.Time) (string, error) {
	return f.keepAside(damagedCopy+at.UTC().Format("20060102T150405.000Z"), data)
}

// keepAside writes a file of its own, whose name is durable when it returns.
func (f *File) keepAside(suffix string, data []byte) (string, error) {
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
		return path, f.disk.SyncDir(f.dir)
	}
}

// Remove takes away the data file and all that was kept beside it, and syncs the
// directory; the lock's file stays, since it is never removed. The lock must be held.
func (f *File) Remove() error {
	if err := f.MayReplace(); err != nil {
		return err
	}
	files, err := os.ReadDir(f.dir)
	if err != nil {
		return err
	}
	doomed := []string{f.path, newPath(f.dir, f.name)}
	for _, file := range files {
		kind, ours := strings.CutPrefix(file.Name(), f.name+".")
		// a.cut-3.jsonl is the file of a.cut-3, and no copy of a's.
		if ours && (strings.HasPrefix(kind, cutCopy) || strings.HasPrefix(kind, damagedCopy)) && !strings.HasSuffix(kind, ".jsonl") {
			doomed = append(doomed, filepath.Join(f.dir, file.Name()))
		}
	}
	for _, path := range doomed {
		if err := f.disk.Remove(path); err != nil && !isAbsent(err) {
			return err
		}
	}
	return f.disk.SyncDir(f.dir)
}

// What the names of copies that are kept beside a file go on with.
const (
	cutCopy     = "cut-"
	damagedCopy = "damaged-"
)
