package runner

import (
	"os"
	"runtime"

	"nightdrill.dev/internal/live/proc"
)

// Tune lets more goroutines run at once than there are processors, unless the user has set
// GOMAXPROCS. A thread that wakes on time would otherwise wait for the runtime to take a processor
// away from a busy goroutine, up to 10 ms; the system's own scheduler gives it one at once.
func Tune() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(max(2*runtime.NumCPU(), 4))
	}
	proc.Brisk()
}
