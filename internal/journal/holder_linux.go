package journal

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
)

// holder returns the name of the process that has the lock on f, from /proc/locks, which has one
// line per lock:
//
//	1: FLOCK  ADVISORY  WRITE 4711 08:01:131 0 EOF
func holder(f *os.File) string {
	info, err := f.Stat()
	if err != nil {
		return "another process"
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	locks, err := os.ReadFile("/proc/locks")
	if err != nil || !ok {
		return "another process"
	}
	for line := range strings.Lines(string(locks)) {
		fields := strings.Fields(line)
		if len(fields) < 6 || fields[1] != "FLOCK" || !strings.HasSuffix(fields[5], ":"+strconv.FormatUint(st.Ino, 10)) {
			continue
		}
		pid := fields[4]
		if name, err := os.ReadFile("/proc/" + pid + "/comm"); err == nil {
			return fmt.Sprintf("process %s (%s)", pid, bytes.TrimSpace(name))
		}
		return "process " + pid
	}
	return "another process"
}
