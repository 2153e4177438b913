package simdisk

import (
	"bytes"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
)

// Restarted returns the disk as another process finds it after this one died.
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

// Synced returns the disk as it is after a power cut that took all that was not
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

// PowerCut returns the disk as it can be after a power cut: of what was not
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
