// Package simdisk is a disk in memory that fails as real ones do: the power is
// cut, a sync fails and later ones claim success, space runs out in the middle
// of a write, the process dies between two steps. For tests of the journal.
package simdisk

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/small-pantry/pantry/internal/journal"
)

// ErrDead is what every call returns once the process or the machine is dead.
var ErrDead = errors.New("the process is dead")

// A Disk is a file system as one process has it: faults and death are its own,
// files those of the machine. It is safe for concurrent use.
type Disk struct {
	*files
	fault func(op, path string) error
	dead  bool
}

// files are what all processes of a machine have in common.
type files struct {
	mu    sync.Mutex        // guards the following fields, and all of each Disk
	names map[string]*inode // as programs see them
	kept  map[string]*inode // as they are after a power cut, as far as directories are synced
	space int               // the number of bytes that can still be written; below 0 means any number

	made     map[string]bool   // directories that Mkdir created and a power cut can take
	ids      map[string]uint64 // of directories
	stuck    map[string]*inode // entries that a failed sync of their directory has dropped; nil means removed
	stuckDir map[string]bool   // directories of made whose entry was dropped
}

// An inode is a file's content.
type inode struct {
	data   []byte
	synced []byte // what a power cut leaves for certain
	lost   []bool // bytes that a failed sync has dropped, also if later syncs succeed
	id     uint64
	failed int // how many syncs of it have failed
	equal  int // data and synced are equal up to here, and nothing before is lost
}

var inodes atomic.Uint64

// New returns an empty Disk.
func New() *Disk {
	return &Disk{files: &files{names: map[string]*inode{}, kept: map[string]*inode{}, space: -1,
		made: map[string]bool{}, ids: map[string]uint64{}, stuck: map[string]*inode{}, stuckDir: map[string]bool{}}}
}

// Process returns the same files as another process has them, which is in good
// health.
func (d *Disk) Process() *Disk { return &Disk{files: d.files} }

// Fault has f asked before each step, by its name (look, open, read, write,
// sync, truncate, rename, remove, syncdir) and path; its error is what the step returns. A
// sync that fails drops what was not synced, for good, and so do those of all who
// have the file open then, once. f must not call the Disk.
func (d *Disk) Fault(f func(op, path string) error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fault = f
}

// Space sets how many bytes can be written yet, by all processes; under 0 any number.
func (d *Disk) Space(n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.space = n
}

// Free returns the space that is left.
func (d *Disk) Free(string) (bytes int64, known bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return int64(d.space), d.space >= 0
}

// Kill has every later call return ErrDead: the process is dead.
func (d *Disk) Kill() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.dead = true
}

// step: mu must be held.
func (d *Disk) step(op, path string) error {
	if d.dead {
		return ErrDead
	}
	if d.fault == nil {
		return nil
	}
	err := d.fault(op, path)
	if errors.Is(err, ErrDead) {
		d.dead = true
	}
	return err
}

// Read returns a file's content.
func (d *Disk) Read(path string) []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	if ino := d.names[path]; ino != nil {
		return bytes.Clone(ino.data)
	}
	return nil
}

// Write puts a file in place, synced.
func (d *Disk) Write(path string, data []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	ino := &inode{data: bytes.Clone(data), synced: bytes.Clone(data), id: inodes.Add(1)}
	d.names[path], d.kept[path] = ino, ino
}

// OpenFile opens a file as os.OpenFile does.
func (d *Disk) OpenFile(path string, flag int, _ fs.FileMode) (journal.Handle, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.step("open", path); err != nil {
		return nil, err
	}
	ino := d.names[path]
	switch {
	case ino != nil && flag&os.O_EXCL != 0:
		return nil, &fs.PathError{Op: "open", Path: path, Err: fs.ErrExist}
	case ino == nil && flag&os.O_CREATE == 0:
		return nil, &fs.PathError{Op: "open", Path: path, Err: fs.ErrNotExist}
	case ino == nil:
		ino = &inode{id: inodes.Add(1)}
		d.names[path] = ino
		d.touched(path)
	case flag&os.O_TRUNC != 0:
		ino.data, ino.equal = nil, 0
	}
	return &handle{d, ino, path, ino.failed}, nil
}

// Look returns what is known of a file.
func (d *Disk) Look(path string) (journal.Extent, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.step("look", path); err != nil {
		return journal.Extent{}, err
	}
	ino := d.names[path]
	if info, err := os.Stat(path); ino == nil && err == nil && info.IsDir() {
		if d.ids[path] == 0 {
			d.ids[path] = inodes.Add(1)
		}
		return journal.Extent{ID: journal.ID{File: d.ids[path]}}, nil
	}
	if ino == nil {
		return journal.Extent{}, &fs.PathError{Op: "stat", Path: path, Err: fs.ErrNotExist}
	}
	return ino.extent(), nil
}

// Owner says that every file is one's own.
func (d *Disk) Owner(path string) (uid int, own bool, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.dead {
		return 0, false, ErrDead
	}
	if d.names[path] == nil {
		return 0, false, &fs.PathError{Op: "stat", Path: path, Err: fs.ErrNotExist}
	}
	return 0, true, nil
}

// Remove removes a file.
func (d *Disk) Remove(path string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.names[path] == nil {
		return &fs.PathError{Op: "remove", Path: path, Err: fs.ErrNotExist}
	}
	if err := d.step("remove", path); err != nil {
		return err
	}
	delete(d.names, path)
	d.touched(path)
	return nil
}

// Rename renames a file over another.
func (d *Disk) Rename(from, to string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.step("rename", to); err != nil {
		return err
	}
	ino := d.names[from]
	if ino == nil {
		return &fs.PathError{Op: "rename", Path: from, Err: fs.ErrNotExist}
	}
	d.names[to] = ino
	delete(d.names, from)
	d.touched(to)
	return nil
}

// Mkdir creates a directory, also on the machine's disk, where locks are.
func (d *Disk) Mkdir(path string, perm fs.FileMode) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.step("mkdir", path); err != nil {
		return err
	}
	if err := os.Mkdir(path, perm); err != nil {
		return err
	}
	d.made[path] = true
	delete(d.stuckDir, path)
	return nil
}

// SyncDir makes the entries in a directory durable. A sync that fails drops them: a later one
// reports success and has not stored them. For the entry of a directory, creating or removing
// another entry beside it helps; a file must be renamed again.
func (d *Disk) SyncDir(dir string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch err := d.step("syncdir", dir); {
	case errors.Is(err, ErrDead):
		return err
	case err != nil:
		for name := range d.changed(dir) {
			d.stuck[name] = d.names[name]
		}
		for sub := range d.made {
			if filepath.Dir(sub) == dir {
				d.stuckDir[sub] = true
			}
		}
		return err
	}
	for name := range d.changed(dir) {
		now := d.names[name]
		if dropped, stuck := d.stuck[name]; stuck && dropped == now {
			continue
		}
		delete(d.stuck, name)
		if now == nil {
			delete(d.kept, name)
		} else {
			d.kept[name] = now
		}
	}
	for sub := range d.made {
		if filepath.Dir(sub) == dir && !d.stuckDir[sub] {
			delete(d.made, sub)
		}
	}
	return nil
}

// changed returns the names in a directory that are not synced. mu must be held.
func (d *Disk) changed(dir string) map[string]bool {
	all := map[string]bool{}
	for name := range d.names {
		all[name] = filepath.Dir(name) == dir && d.kept[name] != d.names[name]
	}
	for name := range d.kept {
		all[name] = filepath.Dir(name) == dir && d.kept[name] != d.names[name]
	}
	maps.DeleteFunc(all, func(_ string, changed bool) bool { return !changed })
	return all
}

// touched makes the entries of directories beside path writable again. mu must be held.
func (d *Disk) touched(path string) {
	for sub := range d.stuckDir {
		if filepath.Dir(sub) == filepath.Dir(path) {
			delete(d.stuckDir, sub)
		}
	}
}

var (
	_ journal.Disk   = (*Disk)(nil)
	_ journal.Handle = (*handle)(nil)
	_ io.ReaderAt    = (*handle)(nil)
)
