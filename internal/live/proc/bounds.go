package proc

import "time"

// Bounds is what a process and its children may use.
type Bounds struct {
	Memory int64   // bytes; 0 for no bound
	CPU    float64 // processors; 0 for no bound
	Meter  bool    // what they use is counted, also where nothing is bounded
}

// Usage is what a process has used.
type Usage struct {
	Peak   int64         // bytes of memory at most; 0 when it is not known
	CPU    time.Duration // processor time
	Killed bool          // the system ended it for its use of memory
}

// Enforcement is how bounds are enforced on this machine.
type Enforcement struct {
	Memory, CPU string // by what, such as "cgroup v2"; "" for not at all
	Why         string // not, where one of them is ""
}

// Says returns in words whether what a function requests is enforced; "" where it
// requests nothing.
func (e Enforcement) Says(b Bounds) string {
	lacks := b.Memory > 0 && e.Memory == "" || b.CPU > 0 && e.CPU == ""
	switch {
	case b.Memory == 0 && b.CPU == 0:
		return ""
	case !lacks && b.Memory > 0:
		return "enforced by " + e.Memory
	case !lacks:
		return "enforced by " + e.CPU
	}
	return "not enforced: " + e.Why
}

// Meter returns what the use of memory and processors is counted by, of a process that was
// started with Bounds.Meter and of its children; "" where only the first process is.
func Meter() string { return meter() }
