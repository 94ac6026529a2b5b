package doctor

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// Fewer of these are too few for drills with many instances.
const (
	leastDescriptors = 4096
	leastProcesses   = 4096
	leastWatches     = 8192
)

func limits() (out []Check) {
	var files unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &files) == nil {
		c := Check{Name: "open files", Found: fmt.Sprintf("at most %d", files.Max)}
		if files.Max < leastDescriptors {
			c.State, c.Remedy = Partly, fmt.Sprintf("ulimit -n %d before it is started", leastDescriptors)
		}
		out = append(out, c)
	}
	var processes unix.Rlimit
	if unix.Getrlimit(rlimitProcesses, &processes) == nil {
		c := Check{Name: "processes", Found: fmt.Sprintf("at most %d", processes.Cur)}
		if processes.Cur == unix.RLIM_INFINITY&(1<<64-1) || processes.Cur > 1<<40 {
			c.Found = "without a limit"
		} else if processes.Cur < leastProcesses {
			c.State, c.Remedy = Partly, fmt.Sprintf("ulimit -u %d before it is started", leastProcesses)
		}
		out = append(out, c)
	}
	if content, err := os.ReadFile("/proc/sys/fs/inotify/max_user_watches"); err == nil {
		n := 0
		_, _ = fmt.Sscan(strings.TrimSpace(string(content)), &n)
		c := Check{Name: "watched folders", Found: fmt.Sprintf("at most %d", n)}
		if n < leastWatches {
			c.State, c.Remedy = Partly, fmt.Sprintf("sysctl fs.inotify.max_user_watches=%d", leastWatches)
		}
		out = append(out, c)
	}
	return out
}
