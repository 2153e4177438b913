package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
)

// entryState is how far a file's directory entry is known to be durable.
type entryState int

const (
	entryUnknown entryState = iota // the process that renamed the file may have died before the sync
	entryDurable
	entryFailed // a sync of the directory failed: the file must be written and renamed again
)

// SyncEntry makes the directory entry of the file durable, and those of the directories above it,
// unless that is known. The lock must be held. After a failed sync of the directory it writes and
// renames the file again: the kernel can report success for a repeated sync that stores nothing.
func (f *File) SyncEntry() error {
	err := f.TryEntry()
	if err == nil || f.handle == nil {
		return err
	}
	data, readErr := readInto(make([]byte, f.cursor.end), f.handle, 0)
	if readErr != nil {
		return errors.Join(err, readErr)
	}
	return f.Rewrite(*f.header, data[len(f.head):], int(f.cursor.line), f.cursor.last, f.cursor.newest)
}

// TryEntry is SyncEntry without writing the file again. It needs no lock.
func (f *File) TryEntry() error {
	if err := f.syncParents(); err != nil {
		return err
	}
	switch f.entry {
	case entryDurable:
		return nil
	case entryFailed:
		return errEntry
	}
	if dirs.hasFailed(f.disk, f.dir) { // perhaps the entry of this file was dropped
		f.entry, f.dropped = entryFailed, f.id
		return errEntry
	}
	return f.syncName()
}

// syncName syncs the directory once.
func (f *File) syncName() error {
	f.entry, f.dropped = entryFailed, f.id
	if err := dirs.sync(f.disk, f.dir); err != nil {
		return fmt.Errorf("sync the directory: %w", err)
	}
	f.entry, f.dropped = entryDurable, ID{}
	return nil
}

var errEntry = errors.New("an earlier sync of the directory failed")

// Durable reports whether the directory entry of the file is known to be durable.
func (f *File) Durable() bool { return f.entry == entryDurable && f.parents }

// syncParents makes the entry of the file's directory durable, and those above it. The header of a
// file records that this was done before.
func (f *File) syncParents() error {
	if f.parents {
		return nil
	}
	if f.header == nil || f.header.Dir == "" || f.header.Dir != f.dirMark() {
		if err := f.problem(dirs.syncAbove(f.disk, f.dir)); err != nil {
			return err
		}
	}
	f.parents = true
	return nil
}

// dirMark identifies the file's directory in the header, or is "".
func (f *File) dirMark() string {
	now, err := f.disk.Look(f.dir)
	if err != nil {
		return ""
	}
	return strconv.FormatUint(now.ID.Device, 16) + "-" + strconv.FormatUint(now.ID.File, 16)
}

// problem keeps the error of a directory that can't be opened, for Problems. It returns any other
// error.
func (f *File) problem(err error) error {
	if err == nil || !errors.Is(err, fs.ErrPermission) {
		return err
	}
	f.problems = append(f.problems, fmt.Errorf("a power cut soon after the creation of %s could remove it: %w", f.dir, err))
	return nil
}

// Problems returns what the file survived since the last call.
func (f *File) Problems() []error {
	problems := f.problems
	f.problems = nil
	return problems
}

// MakeDir creates a directory with mode 0700 and the missing ones above it. It syncs each directory
// entry before it creates the next. A parent that can't be opened is not synced; see File.Problems.
func MakeDir(disk Disk, dir string) error {
	var missing []string // from the lowest
	for d := dir; ; d = filepath.Dir(d) {
		if _, err := os.Stat(d); !isAbsent(err) || d == filepath.Dir(d) {
			break
		}
		missing = append(missing, d)
	}
	for _, d := range slices.Backward(missing) {
		if err := disk.Mkdir(d, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := dirs.sync(disk, filepath.Dir(d)); err != nil && !errors.Is(err, fs.ErrPermission) {
			return fmt.Errorf("sync the directory that %s was made in: %w", d, err)
		}
	}
	return os.MkdirAll(dir, 0o700) // returns the error if something else has the name
}

// SyncDir makes the entries of a directory durable. After a failed sync it first creates and removes
// an entry, so that there is something to write.
func SyncDir(disk Disk, dir string) error { return dirs.sync(disk, dir) }

// dirs is what this process knows of directories. It is safe for concurrent use.
var dirs = directories{failed: map[dirKey]bool{}, durable: map[dirKey]ID{}}

type dirKey struct {
	disk Disk
	dir  string
}

type directories struct {
	mu      sync.Mutex
	failed  map[dirKey]bool // the last sync failed
	durable map[dirKey]ID   // their own entries are durable
}

func (d *directories) hasFailed(disk Disk, dir string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.failed[dirKey{disk, dir}]
}

func (d *directories) sync(disk Disk, dir string) error {
	key := dirKey{disk, dir}
	failed := d.hasFailed(disk, dir)
	err := error(nil)
	if failed {
		err = touch(disk, dir)
	}
	if err == nil {
		err = disk.SyncDir(dir)
	}
	if err != nil && !failed && !errors.Is(err, fs.ErrPermission) {
		d.mu.Lock()
		d.failed[key] = true
		d.mu.Unlock()
	}
	if err == nil && failed {
		d.mu.Lock()
		delete(d.failed, key)
		d.mu.Unlock()
	}
	return err
}

// touch creates and removes an entry in a directory.
func touch(disk Disk, dir string) error {
	path := filepath.Join(dir, ".small-pantry.sync")
	if err := disk.Remove(path); err != nil && !isAbsent(err) {
		return err
	}
	h, err := disk.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(h.Close(), disk.Remove(path))
}

// syncAbove makes the entries of a directory and of those above it durable, as far as this process
// does not know that they are. It ends at the root and at a mount point.
func (d *directories) syncAbove(disk Disk, dir string) error {
	var denied error
	for {
		up := filepath.Dir(dir)
		if up == dir {
			return denied
		}
		here, err := disk.Look(dir)
		if err != nil {
			return errors.Join(denied, err)
		}
		key := dirKey{disk, dir}
		d.mu.Lock()
		known := d.durable[key] == here.ID
		d.mu.Unlock()
		if known {
			return denied
		}
		above, err := disk.Look(up)
		switch {
		case errors.Is(err, fs.ErrPermission):
			return err
		case err != nil:
			return errors.Join(denied, err)
		case above.ID.Device != here.ID.Device:
			return denied
		}
		err = d.sync(disk, up)
		switch {
		case errors.Is(err, fs.ErrPermission):
			denied = err
		case err != nil:
			return fmt.Errorf("sync the directory above %s: %w", dir, err)
		default:
			d.mu.Lock()
			d.durable[key] = here.ID
			d.mu.Unlock()
		}
		dir = up
	}
}
