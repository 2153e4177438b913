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
	Look(path string) (Extent, error) // follows links
	Owner(path string) (uid int, own bool, err error)
	Rename(from, to string) error
	Remove(path string) error
	SyncDir(dir string) error
}

// A Handle is an open data file.
type Handle interface {
	io.ReaderAt
	io.WriterAt
	Sync() error // the data and the size; not the directory
	Truncate(size int64) error
	Look() (Extent, error)
	Close() error
}

// An Extent is which file it is, and its size.
type Extent struct {
	ID   ID
	Size int64
}

// An ID tells a file apart from every other while it is open.
type ID struct{ Device, File uint64 }

// OS is the file system of the machine.
var OS Disk = osDisk{}

type osDisk struct{}

type osHandle struct{ *os.File }

func (h osHandle) Sync() error { return syncData(h.File) }

func (h osHandle) Look() (Extent, error) { return lookFile(h.File) }

func (osDisk) OpenFile(path string, flag int, perm fs.FileMode) (Handle, error) {
	f, err := os.OpenFile(path, flag, perm)
	if err != nil {
		return nil, err
	}
	return osHandle{f}, nil
}

func (osDisk) Look(path string) (Extent, error) { return lookPath(path) }

func (osDisk) Owner(path string) (uid int, own bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, false, err
	}
	uid, own = owner(info)
	return uid, own, nil
}

func (osDisk) Rename(from, to string) error { return os.Rename(from, to) }
func (osDisk) Remove(path string) error     { return os.Remove(path) }

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
