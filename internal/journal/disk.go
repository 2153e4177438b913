package journal

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// A Disk is the seam between a journal and the file system. Tests put faults
// in here, and nothing else uses it.
type Disk interface {
	OpenFile(path string, flag int, perm fs.FileMode) (Handle, error)
	Stat(path string) (fs.FileInfo, error)
	Rename(from, to string) error
	SyncDir(dir string) error
}

// A FileInfo of a Disk that is not the machine's can tell by this method that
// its file has lost its last name.
type unlinked interface{ Unlinked() bool }

// A Handle is an open data file.
type Handle interface {
	io.ReaderAt
	io.WriterAt
	Sync() error // the data and the size; not the directory
	Truncate(size int64) error
	Stat() (fs.FileInfo, error)
	Close() error
}

// OS is the file system of the machine.
var OS Disk = osDisk{}

// extent is what a File must know of its handle before each commit. A Handle
// that can tell it in a cheaper way than by Stat has the method of that name.
type extent struct {
	size    int64
	removed bool // it has lost its last name
}

type extenter interface{ extent() (extent, error) }

func extentOf(h Handle, path string) (extent, error) {
	if e, ok := h.(extenter); ok {
		return e.extent()
	}
	info, err := h.Stat()
	if err != nil {
		return extent{}, err
	}
	return extent{info.Size(), removed(info, path)}, nil
}

type osDisk struct{}

type osHandle struct{ *os.File }

func (h osHandle) Sync() error { return syncData(h.File) }

func (osDisk) OpenFile(path string, flag int, perm fs.FileMode) (Handle, error) {
	f, err := os.OpenFile(path, flag, perm)
	if err != nil {
		return nil, err
	}
	return osHandle{f}, nil
}

func (osDisk) Stat(path string) (fs.FileInfo, error) { return os.Stat(path) }

func (osDisk) Rename(from, to string) error { return os.Rename(from, to) }

func (osDisk) SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return syncDir(d)
}

// DataPath is where the journal called name lies in dir.
func DataPath(dir, name string) string { return filepath.Join(dir, name+".jsonl") }

func lockPath(dir, name string) string { return filepath.Join(dir, "."+name+".lock") }
func newPath(dir, name string) string  { return filepath.Join(dir, "."+name+".new") }
