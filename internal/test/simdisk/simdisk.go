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
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"

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
	lost   []bool // bytes that a failed sync has dropped, whatever later syncs say
	id     uint64
	failed int // how many syncs of it have failed
	equal  int // data and synced are equal up to here, and nothing before is lost
}

var inodes atomic.Uint64

// New gives an empty Disk.
func New() *Disk {
	return &Disk{files: &files{names: map[string]*inode{}, kept: map[string]*inode{}, space: -1,
		made: map[string]bool{}, ids: map[string]uint64{}, stuck: map[string]*inode{}, stuckDir: map[string]bool{}}}
}

// Process gives the same files as another process has them, which is in good
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

// Restarted gives the disk as another process finds it after this one died.
func (d *Disk) Restarted() *Disk {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := New()
	for name, ino := range d.names {
		c := &inode{data: bytes.Clone(ino.data), synced: bytes.Clone(ino.synced), lost: slices.Clone(ino.lost), id: inodes.Add(1)}
		n.names[name] = c
		if d.kept[name] == ino {
			n.kept[name] = c
		}
	}
	maps.Copy(n.made, d.made)
	maps.Copy(n.ids, d.ids)
	return n
}

// survives reports whether a power cut that keeps only what was synced keeps the directory of a file.
// mu must be held.
func (d *Disk) survives(path string) bool {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if d.made[dir] {
			return false
		}
		if dir == filepath.Dir(dir) {
			return true
		}
	}
}

// Synced gives the disk as it is after a power cut that took all that was not
// synced.
func (d *Disk) Synced() *Disk {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := New()
	for name, ino := range d.kept {
		if !d.survives(name) {
			continue
		}
		c := &inode{data: bytes.Clone(ino.synced), synced: bytes.Clone(ino.synced), id: inodes.Add(1)}
		n.names[name], n.kept[name] = c, c
	}
	return n
}

// PowerCut gives the disk as it may be after a power cut: of what was not
// synced each sector is there or not, at random, and so is each name that was
// made or changed since the directory was synced.
func (d *Disk) PowerCut(rng *rand.Rand, sector int) *Disk {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := New()
	gone := map[string]bool{} // directories that were not synced, at random
	for _, dir := range slices.Sorted(maps.Keys(d.made)) {
		gone[dir] = rng.IntN(2) == 0
	}
	all := maps.Clone(d.kept)
	maps.Copy(all, d.names)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if lostAbove(gone, name) {
			continue
		}
		ino := d.kept[name]
		if now := d.names[name]; now != ino && rng.IntN(2) == 0 {
			ino = now
		}
		if ino != nil {
			data := ino.afterCut(rng, sector)
			c := &inode{data: data, synced: bytes.Clone(data), id: inodes.Add(1)}
			n.names[name], n.kept[name] = c, c
		}
	}
	return n
}

func lostAbove(gone map[string]bool, path string) bool {
	for dir := filepath.Dir(path); dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if gone[dir] {
			return true
		}
	}
	return false
}

func (ino *inode) afterCut(rng *rand.Rand, sector int) []byte {
	size := len(ino.synced)
	if len(ino.data) != size {
		switch rng.IntN(3) {
		case 0:
			size = len(ino.data)
		case 1:
			if lo, hi := min(size, len(ino.data)), max(size, len(ino.data)); hi > lo {
				size = lo + rng.IntN(hi-lo+1)/sector*sector
			}
		}
	}
	out := make([]byte, size)
	copy(out, ino.synced)
	for at := 0; at < size; at += sector {
		switch rng.IntN(4) {
		case 0, 1:
			continue // the old sector, or zeros
		case 2:
			if at >= len(ino.synced) && rng.IntN(4) == 0 { // a stale sector of the same file
				copy(out[at:min(at+sector, size)], ino.synced)
				continue
			}
		}
		for i := at; i < min(at+sector, size); i++ {
			if i < len(ino.data) && !ino.dropped(i) {
				out[i] = ino.data[i]
			}
		}
	}
	return out
}

func (ino *inode) dropped(i int) bool { return i < len(ino.lost) && ino.lost[i] }

// Read gives a file's content.
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

// Look tells of a file.
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

func (ino *inode) extent() journal.Extent {
	return journal.Extent{ID: journal.ID{File: ino.id}, Size: int64(len(ino.data))}
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

type handle struct {
	d    *Disk
	ino  *inode
	path string
	told int // of how many failed syncs of the file it was told
}

func (h *handle) ReadAt(b []byte, off int64) (int, error) {
	h.d.mu.Lock()
	defer h.d.mu.Unlock()
	if err := h.d.step("read", h.path); err != nil {
		return 0, err
	}
	return bytes.NewReader(h.ino.data).ReadAt(b, off)
}

func (h *handle) WriteAt(b []byte, off int64) (n int, err error) {
	h.d.mu.Lock()
	defer h.d.mu.Unlock()
	if err := h.d.step("write", h.path); err != nil {
		return 0, err
	}
	n = len(b)
	if h.d.space >= 0 && n > h.d.space {
		n, err = h.d.space, syscall.ENOSPC
	}
	if h.d.space >= 0 {
		h.d.space -= n
	}
	h.ino.equal = min(h.ino.equal, int(off))
	if end := int(off) + n; end > len(h.ino.data) {
		h.ino.data = append(h.ino.data, make([]byte, end-len(h.ino.data))...)
	}
	copy(h.ino.data[off:], b[:n])
	for i := int(off); i < min(int(off)+n, len(h.ino.lost)); i++ {
		h.ino.lost[i] = false // written again, it can be synced again
	}
	return n, err
}

func (h *handle) Sync() error {
	h.d.mu.Lock()
	defer h.d.mu.Unlock()
	ino := h.ino
	if h.told < ino.failed {
		h.told = ino.failed
		return syscall.EIO
	}
	switch err := h.d.step("sync", h.path); {
	case errors.Is(err, ErrDead):
		return err
	case err != nil:
		ino.failed++
		h.told = ino.failed
		ino.lost = append(ino.lost, make([]bool, max(len(ino.data)-len(ino.lost), 0))...)
		for i, c := range ino.data {
			if i >= len(ino.synced) || ino.synced[i] != c {
				ino.lost[i] = true
			}
		}
		return err
	}
	next := append(ino.synced[:ino.equal], ino.data[ino.equal:]...)
	if len(ino.lost) > 0 {
		old := ino.synced
		next = bytes.Clone(ino.data)
		for i := range next {
			if ino.dropped(i) {
				next[i] = 0
				if i < len(old) {
					next[i] = old[i]
				}
			}
		}
	}
	if ino.synced = next; len(ino.lost) == 0 {
		ino.equal = len(next)
	}
	return nil
}

func (h *handle) Truncate(size int64) error {
	h.d.mu.Lock()
	defer h.d.mu.Unlock()
	if err := h.d.step("truncate", h.path); err != nil {
		return err
	}
	if int(size) < len(h.ino.data) {
		h.ino.data, h.ino.equal = h.ino.data[:size:size], min(h.ino.equal, int(size))
		h.ino.lost = h.ino.lost[:min(int(size), len(h.ino.lost))]
	}
	return nil
}

func (h *handle) Look() (journal.Extent, error) {
	h.d.mu.Lock()
	defer h.d.mu.Unlock()
	if h.d.dead {
		return journal.Extent{}, ErrDead
	}
	return h.ino.extent(), nil
}

func (h *handle) Close() error { return nil }

var (
	_ journal.Disk   = (*Disk)(nil)
	_ journal.Handle = (*handle)(nil)
	_ io.ReaderAt    = (*handle)(nil)
)

// A DirRecorder is a disk that tells which directories are synced, in order.
type DirRecorder struct {
	journal.Disk
	Synced []string
}

// SyncDir syncs a directory.
func (r *DirRecorder) SyncDir(dir string) error {
	r.Synced = append(r.Synced, dir)
	return r.Disk.SyncDir(dir)
}
