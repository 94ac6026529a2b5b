package proc

import (
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// slice is how long this program's threads compute before others have their turn,
// in ns: the least there is. Who requests little at a time is let in sooner
// (sched_setattr(2), since Linux 6.12).
const slice = 100_000

// Brisk requests short time slices for all threads of this program, so that news of an instance
// need not wait until a function that computes has used its slice. Threads that are made later
// inherit them; processes that are started do not. Where the system has no such request nothing
// happens.
func Brisk() {
	tasks, _ := os.ReadDir("/proc/self/task")
	for _, t := range tasks {
		if tid, err := strconv.Atoi(t.Name()); err == nil {
			turn(tid, slice)
		}
	}
}

// turn sets how long a thread's turns are; 0 for what the system thinks best.
func turn(tid int, ns uint64) {
	a, err := unix.SchedGetAttr(tid, 0)
	if err != nil || a.Policy != unix.SCHED_NORMAL {
		return
	}
	a.Runtime = ns
	_ = unix.SchedSetAttr(tid, a, 0) // older systems refuse what they do not know
}
