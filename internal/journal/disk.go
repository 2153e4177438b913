package journal

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// A Disk is the file system under a journal. Tests replace it to inject faults; nothing else does.
type Disk interface {
	OpenFile(path string, flag int, perm fs.FileMode) (Handle, error)
	Look(path string) (Extent, error) // follows links
	Owner(path string) (uid int, own bool, err error)
	Rename(from, to string) error
	Remove(path string) error
	Mkdir(path string, perm fs.FileMode) error
	SyncDir(dir string) error // use the function SyncDir, which knows of earlier failures
}

// A Handle is an open data file.
type Handle interface {
	io.ReaderAt
	io.WriterAt
	Sync() error // syncs the data and the size, but not the directory
	Truncate(size int64) error
	Look() (Extent, error)
	Close() error
}

// An Extent is the identity and the size of a file.
type Extent struct {
	ID   ID
	Size int64
}

// An ID distinguishes a file from every other file while it is open.
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

func (osDisk) Mkdir(path string, perm fs.FileMode) error { return os.Mkdir(path, perm) }

func (osDisk) SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return syncDir(d)
}

// DataPath returns the path of the journal called name in dir.
func DataPath(dir, name string) string { return filepath.Join(dir, name+".jsonl") }

func lockPath(dir, name string) string { return filepath.Join(dir, "."+name+".lock") }
func newPath(dir, name string) string  { return filepath.Join(dir, "."+name+".new") }
