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
	mu    sync.Mutex        // guards what follows, and all of each Disk
	names map[string]*inode // as programs see them
	kept  map[string]*inode // as they are after a power cut, as far as directories are synced
	space int               // how many bytes can be written yet; under 0: any number
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
	return &Disk{files: &files{names: map[string]*inode{}, kept: map[string]*inode{}, space: -1}}
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
	return n
}

// Synced gives the disk as it is after a power cut that took all that was not
// synced.
func (d *Disk) Synced() *Disk {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := New()
	for name, ino := range d.kept {
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
	all := maps.Clone(d.kept)
	maps.Copy(all, d.names)
	for _, name := range slices.Sorted(maps.Keys(all)) {
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
		if rng.IntN(2) == 0 {
			continue // the old sector, or zeros
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
	return nil
}

// SyncDir makes the names in a directory durable.
func (d *Disk) SyncDir(dir string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.step("syncdir", dir); err != nil {
		return err
	}
	for name := range d.kept {
		if filepath.Dir(name) == dir && d.names[name] == nil {
			delete(d.kept, name)
		}
	}
	for name, ino := range d.names {
		if filepath.Dir(name) == dir {
			d.kept[name] = ino
		}
	}
	return nil
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
