package simdisk

import (
	"bytes"
	"errors"
	"syscall"

	"github.com/small-pantry/pantry/internal/journal"
)

func (ino *inode) extent() journal.Extent {
	return journal.Extent{ID: journal.ID{File: ino.id}, Size: int64(len(ino.data))}
}

type handle struct {
	d        *Disk
	ino      *inode
	path     string
	reported int // how many failed syncs of the file it has reported
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
	if h.reported < ino.failed {
		h.reported = ino.failed
		return syscall.EIO
	}
	switch err := h.d.step("sync", h.path); {
	case errors.Is(err, ErrDead):
		return err
	case err != nil:
		ino.failed++
		h.reported = ino.failed
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
