package anatomy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/text"
)

// The names of what a start opens, connects to and runs are read where the kernel is asked for them: a seccomp filter
// stops these system calls alone, and a tracer reads their arguments and results. The tracer is a process of its
// own: what it waits for would otherwise be taken from the program's other children. It is the parent of what it
// traces, and both end with the program.

// Names of the commands under which the program runs itself.
const (
	TraceCommand = "trace-start"
	stubCommand  = "trace-stub"
)

// Traced returns the command that runs a command and writes the names of what it uses to a file.
func Traced(out string, args []string) ([]string, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	return append([]string{self, TraceCommand, out}, args...), nil
}

// Traces returns why no start can be traced here; "" where one can.
func Traces(ctx context.Context) string {
	dir, err := os.MkdirTemp("", "nightdrill-")
	if err != nil {
		return err.Error()
	}
	defer os.RemoveAll(dir) //nolint:errcheck // in the system's place for such
	out := filepath.Join(dir, "names")
	args, err := Traced(out, []string{"true"})
	if err != nil {
		return err.Error()
	}
	said, err := exec.CommandContext(ctx, args[0], args[1:]...).CombinedOutput()
	if n, _, wrong := ReadNames(out); err == nil && wrong == nil && n.Opened > 0 {
		return ""
	}
	return "it is not seen: tracing is refused: " + text.Harmless(strings.TrimPrefix(strings.TrimSpace(string(said)),
		"nightdrill: "))
}

// file is what the tracer writes.
type file struct {
	Opened, Failed int
	Directories    map[string]int
	Addresses      map[string]int
	Commands       []string
	Libraries      []string
	Conflict       string
}

// ReadNames reads what a tracer has written.
func ReadNames(path string) (n *anatomy.Names, conflict string, err error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, "", err
	}
	var f file
	if err := json.Unmarshal(content, &f); err != nil {
		return nil, "", err
	}
	n = &anatomy.Names{Opened: f.Opened, Failed: f.Failed, Commands: f.Commands, Libraries: f.Libraries}
	for name, count := range f.Directories {
		n.Directories = append(n.Directories, anatomy.Count{Name: name, N: count})
	}
	slices.SortFunc(n.Directories, func(a, b anatomy.Count) int {
		if a.N != b.N {
			return b.N - a.N
		}
		return strings.Compare(a.Name, b.Name)
	})
	const most = 20
	n.Directories = n.Directories[:min(len(n.Directories), most)]
	for address, count := range f.Addresses {
		n.Addresses = append(n.Addresses, anatomy.Connection{Address: address, N: count})
	}
	slices.SortFunc(n.Addresses, func(a, b anatomy.Connection) int { return strings.Compare(a.Address, b.Address) })
	return n, f.Conflict, nil
}

// Commanded runs one of the tracer's commands, and reports whether it was one. It does not return then.
func Commanded(args []string) bool {
	switch {
	case len(args) > 2 && args[0] == TraceCommand:
		trace(args[1], args[2:])
	case len(args) > 1 && args[0] == stubCommand:
		stub(args[1:])
	default:
		return false
	}
	return true
}

// inherited returns the descriptors that whoever started the program has left to it.
func inherited() (out []uintptr) {
	for fd := range uintptr(256) {
		flags, err := unix.FcntlInt(fd, unix.F_GETFD, 0)
		if err == nil && flags&unix.FD_CLOEXEC == 0 {
			out = append(out, fd)
		} else if fd > 2 {
			break
		}
	}
	return out
}

// stub puts the filter in front of itself, and becomes the command.
func stub(args []string) {
	runtime.LockOSThread()
	fail := func(err error) {
		fmt.Fprintf(os.Stderr, "nightdrill: %s cannot be traced: %v\n", args[0], err)
		os.Exit(126)
	}
	path, err := exec.LookPath(args[0])
	if err != nil {
		fail(err)
	}
	if err := filter(); err != nil {
		fail(err)
	}
	fail(syscall.Exec(path, args, os.Environ()))
}

// filter stops the calls that are wanted, of this thread and of all that comes of it.
func filter() error {
	type ins = unix.SockFilter
	const load, equal, ret = unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K,
		unix.BPF_RET | unix.BPF_K
	numbers := wanted
	program := []ins{{Code: load, K: 4}, {Code: equal, K: auditArch, Jt: 1}, {Code: ret, K: unix.SECCOMP_RET_ALLOW},
		{Code: load, K: 0}}
	for i, n := range numbers {
		program = append(program, ins{Code: equal, K: uint32(n), Jt: uint8(len(numbers) - i)})
	}
	program = append(program, ins{Code: ret, K: unix.SECCOMP_RET_ALLOW}, ins{Code: ret, K: unix.SECCOMP_RET_TRACE})
	prog := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	set := func() error {
		_, _, errno := unix.RawSyscall(
			unix.SYS_SECCOMP,
			unix.SECCOMP_SET_MODE_FILTER,
			0,
			uintptr(unsafe.Pointer(&prog)),
		)
		if errno != 0 {
			return errno
		}
		return nil
	}
	if err := set(); err == nil || !errors.Is(err, unix.EACCES) {
		return err
	}
	// without the right to it, programs that change their user would not do so any more
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	return set()
}

// tracer reads the system calls of what it traces.
type tracer struct {
	mu   sync.Mutex // of seen
	seen file
	at   map[int]*call // the calls that have begun, by thread
	root int
	ran  bool // the function's own command has begun
}

type call struct {
	number uint64
	args   [6]uint64
	path   string
}

func trace(out string, args []string) {
	runtime.LockOSThread()
	t := &tracer{at: map[int]*call{}, seen: file{Directories: map[string]int{}, Addresses: map[string]int{}}}
	self, err := os.Executable()
	if err != nil {
		t.end(out, 126)
	}
	pid, err := syscall.ForkExec(
		self,
		append([]string{self, stubCommand}, args...),
		&syscall.ProcAttr{Env: os.Environ(),
			Files: inherited(), Sys: &syscall.SysProcAttr{Ptrace: true}},
	)
	if err != nil {
		fmt.Fprintf(os.Stderr, "nightdrill: it cannot be traced: %v\n", err)
		t.end(out, 126)
	}
	t.root = pid
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, unix.SIGTERM, unix.SIGINT, unix.SIGHUP)
	go func() {
		<-ended
		t.end(out, 143) // what is traced ends with it
	}()
	t.end(out, t.follow())
}

// end writes what was seen, and ends the tracer.
func (t *tracer) end(out string, code int) {
	t.mu.Lock()
	content, _ := json.Marshal(&t.seen) // numbers and texts always marshal
	_ = os.WriteFile(out, content, 0o600)
	os.Exit(code)
}

// follow carries on what is traced until its first process ends, and returns how it ended.
func (t *tracer) follow() int {
	const options = unix.PTRACE_O_TRACESECCOMP | unix.PTRACE_O_TRACECLONE | unix.PTRACE_O_TRACEFORK |
		unix.PTRACE_O_TRACEVFORK | unix.PTRACE_O_TRACEEXEC | unix.PTRACE_O_TRACESYSGOOD | unix.PTRACE_O_EXITKILL
	began := false
	for {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, unix.WALL, nil)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return 126
		case status.Exited() || status.Signaled():
			delete(t.at, pid)
			if pid == t.root {
				if status.Signaled() {
					return 128 + int(status.Signal())
				}
				return status.ExitStatus()
			}
			continue
		case !status.Stopped():
			continue
		}
		deliver := 0
		switch sig, event := status.StopSignal(), int(status)>>16; {
		case !began && pid == t.root: // its exec
			began = true
			if err := unix.PtraceSetOptions(pid, options); err != nil {
				return 126
			}
		case event == unix.PTRACE_EVENT_SECCOMP:
			if t.begins(pid) {
				_ = unix.PtraceSyscall(pid, 0) // until it returns
				continue
			}
		case sig == unix.SIGTRAP|0x80: // a call returns
			t.returns(pid)
		case event == unix.PTRACE_EVENT_EXEC:
			t.runs(pid)
		case event != 0 || sig == unix.SIGTRAP: // a thread, a process or an exec
		case sig == unix.SIGSTOP && t.at[pid] == nil && !t.known(pid): // how a new thread begins
		default:
			deliver = int(sig)
		}
		_ = unix.PtraceCont(pid, deliver) // one that is gone needs none
	}
}

// runs takes in that a process has begun another program.
func (t *tracer) runs(pid int) {
	if pid == t.root && !t.ran { // the function itself
		t.ran = true
		return
	}
	const most = 500
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.seen.Commands) < most {
		t.seen.Commands = append(t.seen.Commands, command(int32(pid)))
	}
}

// known reports whether a thread was seen before, and notes it.
func (t *tracer) known(pid int) bool {
	_, ok := t.at[pid]
	if !ok {
		t.at[pid] = nil
	}
	return ok
}

// information is what PTRACE_GET_SYSCALL_INFO returns.
type information struct {
	op    uint8
	_     [3]uint8
	arch  uint32
	ip    uint64
	stack uint64
	// at the beginning: the number and six arguments; at the end: the result, and whether it is an error
	values [8]uint64
}

const getSyscallInfo = 0x420e

func inform(pid int) (x information, ok bool) {
	_, _, errno := unix.RawSyscall6(unix.SYS_PTRACE, getSyscallInfo, uintptr(pid), unsafe.Sizeof(x),
		uintptr(unsafe.Pointer(&x)), 0, 0)
	return x, errno == 0
}

// begins takes in a call that begins, and reports whether its end is to be seen.
func (t *tracer) begins(pid int) bool {
	x, ok := inform(pid)
	if !ok {
		return false
	}
	c := &call{number: x.values[0]}
	copy(c.args[:], x.values[1:7])
	kind := names[c.number]
	switch kind.what {
	case itTraces:
		t.mu.Lock()
		t.seen.Conflict = "it traces, or filters the system calls of, itself or another program: what it uses may be " +
			"seen in part only"
		t.mu.Unlock()
		return false
	case itConnects:
		if address := socketAddress(pid, c.args[1], c.args[2]); address != "" {
			t.mu.Lock()
			t.seen.Addresses[address]++
			t.mu.Unlock()
		}
		return false
	}
	c.path = t.path(pid, c, kind)
	t.at[pid] = c
	return true
}

// path returns the path that a call names.
func (t *tracer) path(pid int, c *call, kind named) string {
	path := textAt(pid, c.args[kind.path])
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	base := fmt.Sprintf("/proc/%d/cwd", pid)
	if fd := int32(c.args[0]); kind.path == 1 && fd != unix.AT_FDCWD {
		base = fmt.Sprintf("/proc/%d/fd/%d", pid, fd)
	}
	if dir, err := os.Readlink(base); err == nil {
		return filepath.Join(dir, path)
	}
	return path
}

// returns takes in the result of a call.
func (t *tracer) returns(pid int) {
	c := t.at[pid]
	t.at[pid] = nil
	x, ok := inform(pid)
	if c == nil || !ok || c.path == "" || strings.HasPrefix(c.path, "/proc/") {
		return
	}
	result, failed := int64(x.values[0]), x.values[1]&0xff != 0
	t.mu.Lock()
	defer t.mu.Unlock()
	switch what := names[c.number].what; {
	case failed && (result == -int64(unix.ENOENT) || result == -int64(unix.ENOTDIR)):
		t.seen.Failed++
		if dir := filepath.Dir(c.path); len(t.seen.Directories) < 2000 || t.seen.Directories[dir] > 0 {
			t.seen.Directories[text.Harmless(dir)]++
		}
	case failed:
	case what == itOpens:
		t.seen.Opened++
		base := filepath.Base(c.path)
		if name := text.Harmless(c.path); (strings.HasSuffix(base, ".so") || strings.Contains(base, ".so.") ||
			strings.HasSuffix(base, ".node")) && !slices.Contains(t.seen.Libraries, name) {
			t.seen.Libraries = append(t.seen.Libraries, name)
		}
	}
}

// textAt reads a text in the memory of what is traced.
func textAt(pid int, at uint64) string {
	var out []byte
	for at != 0 && len(out) < 4096 {
		buf := make([]byte, min(256, 4096-int(at%4096))) // not beyond its page
		n := peek(pid, at, buf)
		if n <= 0 {
			break
		}
		for i, b := range buf[:n] {
			if b == 0 {
				return string(append(out, buf[:i]...))
			}
		}
		out, at = append(out, buf[:n]...), at+uint64(n)
	}
	return string(out)
}

// socketAddress reads the address that a connection leads to; "" for one that leads to none.
func socketAddress(pid int, at, size uint64) string {
	buf := make([]byte, min(size, 128))
	if len(buf) < 2 {
		return ""
	}
	if peek(pid, at, buf) < len(buf) {
		return ""
	}
	family := uint16(buf[0]) | uint16(buf[1])<<8
	port := func() uint16 { return uint16(buf[2])<<8 | uint16(buf[3]) }
	switch {
	case family == unix.AF_INET && len(buf) >= 8:
		address, _ := netip.AddrFromSlice(buf[4:8])
		if port() == 0 {
			return ""
		}
		return netip.AddrPortFrom(address, port()).String()
	case family == unix.AF_INET6 && len(buf) >= 24:
		address, _ := netip.AddrFromSlice(buf[8:24])
		if port() == 0 {
			return ""
		}
		return netip.AddrPortFrom(address.Unmap(), port()).String()
	case family == unix.AF_UNIX && buf[2] != 0:
		path, _, _ := strings.Cut(string(buf[2:]), "\x00")
		if strings.Contains(path, "nightdrill-") { // the way to its loader
			return ""
		}
		return text.Harmless(path)
	}
	return ""
}

// what a call does with what it names.
type what uint8

const (
	itLooks what = iota
	itOpens
	itRuns
	itConnects
	itTraces
)

type named struct {
	what what
	path int // which of its arguments is the path
}
