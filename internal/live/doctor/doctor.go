// Package doctor finds out what this machine can and cannot measure, and what would help.
package doctor

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/anatomy"
	"nightdrill.dev/internal/live/proc"
)

// State is how well something can be done.
type State uint8

// States, from the best.
const (
	Good State = iota
	Partly
	Bad
)

// Words are the names of the states.
var Words = [...]string{"yes", "partly", "no"}

// Check is something that the machine is asked for.
type Check struct {
	Name   string `json:"name"`
	State  State  `json:"-"`
	Found  string `json:"found"`
	Remedy string `json:"remedy,omitempty"`
}

// Checks asks the machine for all that is measured, and for what functions need.
func Checks(ctx context.Context) (out []Check) {
	out = append(out, Check{Name: "machine", Found: fmt.Sprintf("%s/%s, %s", runtime.GOOS, runtime.GOARCH,
		text.Plural(runtime.NumCPU(), "processor"))})
	out = append(out, clock(), tracing(ctx), bounds(), meter())
	out = append(out, limits()...)
	for _, x := range interpreters {
		if c, ok := interpreter(ctx, x.name, x.args, x.real); ok {
			out = append(out, c)
		}
	}
	return out
}

func clock() Check {
	c := Check{Name: "where the time of a start goes"}
	why := anatomy.Seen()
	switch {
	case why == "":
		c.Found = "running, waiting for a processor, and what is waited for, by /proc, without special rights"
	default:
		c.State, c.Found = Bad, why
		c.Remedy = "on Linux, mount /proc without hidepid"
	}
	return c
}

func tracing(ctx context.Context) Check {
	c := Check{Name: "what a start opens, connects to and runs"}
	if why := anatomy.Traces(ctx); why != "" {
		c.State, c.Found = Bad, why
		c.Remedy = "in a container, allow the system calls ptrace, seccomp and process_vm_readv; elsewhere, see " +
			"/proc/sys/kernel/yama/ptrace_scope, which must not be 3"
		return c
	}
	c.Found = "by ptrace with a seccomp filter"
	return c
}

func bounds() Check {
	e := proc.Bounded()
	c := Check{Name: "bounds of memory and processors"}
	switch {
	case e.Memory == "" && e.CPU == "":
		c.State, c.Found = Bad, "not enforced: "+e.Why
	case e.Memory == "" || e.CPU == "":
		c.State, c.Found = Partly, fmt.Sprintf("memory by %s, processors by %s: %s", orNothing(e.Memory),
			orNothing(e.CPU), e.Why)
	default:
		c.Found = fmt.Sprintf("memory by %s, processors by %s", e.Memory, e.CPU)
	}
	if c.State != Good {
		c.Remedy = "on Linux, as root, or with a control group of your own: systemd-run --user --scope -p Delegate=yes"
	}
	return c
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func meter() Check {
	c := Check{Name: "memory and processor time of functions", Found: "by " + proc.Meter() + ", with their children"}
	if proc.Meter() == "" {
		c.State, c.Found = Partly, "of the first process of each instance alone"
		c.Remedy = "the same as for bounds"
	}
	return c
}

// interpreters are what functions are usually run by; real prints the path of the program itself.
var interpreters = []struct {
	name string
	args []string
	real []string
}{
	{"python3", []string{"--version"}, []string{"-c", "import sys; print(sys.executable)"}},
	{"node", []string{"--version"}, []string{"-p", "process.execPath"}},
	{"go", []string{"version"}, nil},
	{"java", []string{"-version"}, nil},
	{"ruby", []string{"--version"}, nil},
}

// interpreter asks for the version of an interpreter; ok is false where there is none. One that is a script around
// another program costs each start what the script takes.
func interpreter(ctx context.Context, name string, args, real []string) (c Check, ok bool) {
	path, err := exec.LookPath(name)
	if err != nil {
		return c, false
	}
	ctx, end := context.WithTimeout(ctx, 10*time.Second)
	defer end()
	content, err := exec.CommandContext(ctx, path, args...).CombinedOutput()
	c = Check{Name: name}
	if err != nil {
		c.State, c.Found = Bad, fmt.Sprintf("%s does not run: %v", path, err)
		c.Remedy = "install it, or take it off the PATH"
		return c, true
	}
	version, _, _ := strings.Cut(strings.TrimSpace(string(content)), "\n")
	c.Found = text.Harmless(version) + ", " + path
	if !script(path) || real == nil {
		return c, true
	}
	own, err := exec.CommandContext(ctx, path, real...).Output()
	if target := strings.TrimSpace(string(own)); err == nil && filepath.IsAbs(target) && target != path {
		c.State = Partly
		c.Found += fmt.Sprintf(", a script around %s: each start takes %s longer by that", text.Harmless(target),
			text.Duration(longer(ctx, path, target, real)))
		c.Remedy = fmt.Sprintf("start functions with the program itself: interpreter: [%s], or in start",
			text.Harmless(target))
	}
	return c, true
}

// script reports whether a program is a text that another one interprets.
func script(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [2]byte
	_, err = f.Read(head[:])
	return err == nil && string(head[:]) == "#!"
}

// longer returns how much longer the one takes than the other, the shortest of a few turns of each.
func longer(ctx context.Context, one, other string, args []string) time.Duration {
	var least [2]time.Duration
	for range 3 {
		for i, path := range []string{one, other} {
			began := time.Now()
			_ = exec.CommandContext(ctx, path, args...).Run() // it has run before
			if took := time.Since(began); least[i] == 0 || took < least[i] {
				least[i] = took
			}
		}
	}
	return max(least[0]-least[1], 0).Round(time.Millisecond)
}
