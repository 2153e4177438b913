package journal

import (
	"bytes"
	"fmt"
	"io"
	"os"
)

// peekFirst is how many bytes at the end of a file are read first.
const peekFirst = 4 << 10

// Peek returns the newest version in a file and the file's size. It reads only the end of the file
// and takes no lock, so a line that is being written can be missing.
func Peek(path string) (version, size int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, 0, err
	}
	size = info.Size()
	for n := int64(peekFirst); ; n *= 8 {
		from := max(size-n, 0)
		data := make([]byte, size-from)
		if _, err := f.ReadAt(data, from); err != nil && err != io.EOF {
			return 0, size, err
		}
		for end := len(data); end > 0; {
			start := bytes.LastIndexByte(data[:end-1], '\n') + 1
			if start == 0 && from > 0 {
				break // the line starts before these bytes
			}
			line := bytes.TrimSuffix(data[start:end], []byte("\n"))
			if version, ok := versionOf(line); ok && len(line) < end-start {
				return version, size, nil
			}
			end = start
		}
		if from == 0 {
			return 0, size, &DamageError{Path: path, Line: 1, Reason: "no line in it is intact"}
		}
	}
}

// versionOf returns the version of a line, or the base of a header.
func versionOf(line []byte) (version int64, ok bool) {
	if !intact(line) {
		return 0, false
	}
	if _, err := fmt.Sscanf(string(line[:min(len(line), 40)]), `{"version":%d,`, &version); err == nil {
		return version, true
	}
	h, err := parseHeader(line)
	return h.Base, err == nil
}
