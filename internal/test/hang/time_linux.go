package hang

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"time"
)

// processorTime returns the processor time of this process, of its running descendants, and of
// those that it has waited for. It is 0 if /proc can't be read, which counts as no hang.
func processorTime() time.Duration {
	const tick = 10 * time.Millisecond // USER_HZ is 100 on all Linux platforms that Go supports
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return 0
	}
	children := map[int][]int{}
	times := map[int]time.Duration{}
	for _, e := range processes {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			continue // it has ended
		}
		_, rest, _ := bytes.Cut(raw, []byte(") ")) // the command's name can hold spaces
		fields := bytes.Fields(rest)
		if len(fields) < 15 {
			continue
		}
		number := func(i int) int { n, _ := strconv.Atoi(string(fields[i])); return n }
		const parent, user, system, waitedUser, waitedSystem = 1, 11, 12, 13, 14 // proc(5), from the state on
		children[number(parent)] = append(children[number(parent)], pid)
		times[pid] = time.Duration(number(user)+number(system)+number(waitedUser)+number(waitedSystem)) * tick
	}
	var sum time.Duration
	for pids := []int{os.Getpid()}; len(pids) > 0; {
		pid := pids[0]
		sum += times[pid]
		pids = append(pids[1:], children[pid]...)
	}
	return sum
}
