package journal

import (
	"os"

	"golang.org/x/sys/windows"
)

func lookPath(path string) (Extent, error) {
	f, err := os.Open(path)
	if err != nil {
		return Extent{}, err
	}
	defer f.Close()
	return lookFile(f)
}

func lookFile(f *os.File) (Extent, error) {
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &info); err != nil {
		return Extent{}, os.NewSyscallError("GetFileInformationByHandle", err)
	}
	return Extent{
		ID{uint64(info.VolumeSerialNumber), uint64(info.FileIndexHigh)<<32 | uint64(info.FileIndexLow)},
		int64(info.FileSizeHigh)<<32 | int64(info.FileSizeLow),
	}, nil
}
