package anatomy

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/proc"
)

// kind is what a system call can wait for.
type kind uint8

const (
	other kind = iota
	sleeps
	reads // of a descriptor
	polls
	selects
	loops
	locks
	children
)

// Sampler looks at the threads of a process and of its children, every 1 to 20 ms, without any rights: the kernel's
// own count of the time on a processor and ready for one is exact, what a thread waits in is seen at the looks.
type Sampler struct {
	exec  time.Time
	done  chan struct{}
	ended chan struct{}
	stop  sync.Once
	procs map[int32]*process
	tasks []*task
	full  bool
}

type process struct {
	id, parent int32
	dir        int // its folder of threads, open; -1 where it is gone
	command    string
	known      map[int32]*task
	sockets    string // what its sockets lead to, lately
	socketsAt  time.Duration
	addresses  map[string]string // by inode
	addressAt  time.Duration
}

type task struct {
	anatomy.Task
	of         *process
	stat, call int // open files; -1 where there are none
	run, ready time.Duration
	at         time.Duration
	gone       bool
}

// mostSteps bounds what is kept of a thread, and mostTasks how many threads are looked at.
const (
	mostSteps = 200_000
	mostTasks = 2000
)

// Sample begins to look at a process, whose exec succeeded at a moment.
func Sample(pid int, exec time.Time) *Sampler {
	s := &Sampler{exec: exec, done: make(chan struct{}), ended: make(chan struct{}), procs: map[int32]*process{}}
	go s.watch(int32(pid))
	return s
}

// End ends the looking with a last look, and returns what was seen, and why not everything was; "" if it was.
func (s *Sampler) End() (tasks []anatomy.Task, why string) {
	s.stop.Do(func() { close(s.done) })
	<-s.ended
	for _, t := range s.tasks {
		t.Command = t.of.command
		tasks = append(tasks, t.Task)
	}
	switch {
	case len(tasks) == 0:
		why = "the process could not be looked at (/proc)"
	case s.full:
		why = fmt.Sprintf("only the first %d threads and %d looks at each are kept", mostTasks, mostSteps)
	}
	return tasks, why
}

func (s *Sampler) watch(pid int32) {
	defer close(s.ended)
	runtime.LockOSThread() // it ends with the goroutine: its priority is not the program's
	_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), -10)
	s.add(pid, 0)
	defer func() {
		for _, t := range s.tasks {
			t.close()
		}
		for _, p := range s.procs {
			if p.dir >= 0 {
				_ = unix.Close(p.dir)
			}
		}
	}()
	for n := 0; ; n++ {
		s.look(n)
		every := 2 * time.Millisecond
		switch at := time.Since(s.exec); {
		case at < 100*time.Millisecond:
			every = time.Millisecond
		case at > time.Minute:
			every = 20 * time.Millisecond
		case at > 5*time.Second:
			every = 5 * time.Millisecond
		}
		select {
		case <-s.done:
			s.look(0)
			return
		default:
		}
		rest := unix.NsecToTimespec(int64(every))
		_ = unix.Nanosleep(&rest, nil)
	}
}

func (s *Sampler) add(pid, parent int32) *process {
	p := &process{id: pid, parent: parent, known: map[int32]*task{}, addresses: map[string]string{}, dir: -1}
	if fd, err := unix.Open(fmt.Sprintf("/proc/%d/task", pid), unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0); err ==
		nil {
		p.dir = fd
	}
	s.procs[pid] = p
	return p
}

// look looks at all threads once; n is the number of the look.
func (s *Sampler) look(n int) {
	waits := false
	for _, p := range s.procs {
		if p.dir < 0 {
			continue
		}
		s.threads(p)
		if n%64 == 0 || p.command == "" || p.parent != 0 && s.procs[p.parent] != nil &&
			p.command == s.procs[p.parent].command {
			if c := command(p.id); c != "" {
				p.command = c
			}
		}
		for _, t := range p.known {
			waits = t.look(time.Since(s.exec)) || waits
			s.full = s.full || len(t.Steps) >= mostSteps
		}
	}
	if waits || n%4 == 0 {
		for _, p := range slices.Collect(maps.Values(s.procs)) {
			s.children(p)
		}
	}
}

// command returns the program that a process runs, with its first argument where that is no flag: what follows may
// be secret.
func command(pid int32) string {
	content, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if len(content) == 0 {
		return "" // it has not begun another program yet, or has ended
	}
	words := strings.Split(strings.TrimRight(string(content), "\x00"), "\x00")
	out := filepath.Base(words[0])
	const most = 40
	if len(words) > 1 && !strings.HasPrefix(words[1], "-") && len(words[1]) <= most {
		out += " " + words[1]
	}
	return text.Harmless(out)
}

// threads finds the threads of a process.
func (s *Sampler) threads(p *process) {
	var buf [8 << 10]byte
	if _, err := unix.Seek(p.dir, 0, 0); err != nil {
		return
	}
	for {
		n, err := unix.Getdents(p.dir, buf[:])
		if err != nil || n <= 0 {
			break
		}
		for at := 0; at < n; {
			size := int(binary.NativeEndian.Uint16(buf[at+16:]))
			name := buf[at+19 : at+size]
			if end := bytes.IndexByte(name, 0); end >= 0 {
				name = name[:end]
			}
			at += size
			if id, err := strconv.ParseInt(string(name), 10, 32); err == nil && p.known[int32(id)] == nil {
				s.thread(p, int32(id))
			}
		}
	}
}

func (s *Sampler) thread(p *process, id int32) {
	if len(s.tasks) >= mostTasks {
		s.full = true
		return
	}
	dir := fmt.Sprintf("/proc/%d/task/%d/", p.id, id)
	open := func(name string) int {
		fd, err := unix.Open(dir+name, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			return -1
		}
		return fd
	}
	name, _ := os.ReadFile(dir + "comm")
	t := &task{of: p, stat: open("schedstat"), call: open("syscall"), at: time.Since(s.exec)}
	t.Task = anatomy.Task{ID: id, Process: p.id, Parent: p.parent, Name: text.Harmless(strings.TrimSpace(string(name)))}
	if p.parent == 0 && id == p.id { // from its exec on
		t.at = 0
	}
	p.known[id] = t
	s.tasks = append(s.tasks, t)
}

func (t *task) close() {
	for _, fd := range []int{t.stat, t.call} {
		if fd >= 0 {
			_ = unix.Close(fd)
		}
	}
	t.stat, t.call = -1, -1
}

// children finds the children of a process.
func (s *Sampler) children(p *process) {
	if p.dir < 0 {
		return
	}
	for id, t := range p.known {
		if t.gone {
			continue
		}
		content, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", p.id, id))
		if err != nil {
			continue
		}
		for _, word := range strings.Fields(string(content)) {
			if pid, err := strconv.ParseInt(word, 10, 32); err == nil && s.procs[int32(pid)] == nil {
				child := s.add(int32(pid), p.id)
				s.threads(child)
			}
		}
	}
}

// look looks at a thread, and reports whether it waits for a child or a pipe.
func (t *task) look(now time.Duration) bool {
	if t.gone || len(t.Steps) >= mostSteps {
		return false
	}
	var buf [256]byte
	n, err := unix.Pread(t.stat, buf[:], 0)
	if err != nil || n == 0 {
		t.gone = true
		t.close()
		return false
	}
	fields := bytes.Fields(buf[:n])
	if len(fields) < 2 {
		return false
	}
	ran, _ := strconv.ParseInt(string(fields[0]), 10, 64)
	readied, _ := strconv.ParseInt(string(fields[1]), 10, 64)
	step := anatomy.Step{From: t.at, To: now, Run: time.Duration(ran) - t.run, Ready: time.Duration(readied) - t.ready}
	t.run, t.ready, t.at = time.Duration(ran), time.Duration(readied), now
	if step.To <= step.From {
		return false
	}
	t.way(&step, now)
	if k := len(t.Steps); k > 0 {
		last := &t.Steps[k-1]
		if last.Way == step.Way && last.Call == step.Call && last.On == step.On && step.Run == 0 &&
			step.Way != anatomy.NoWay {
			last.To, last.Ready = step.To, last.Ready+step.Ready // the wait goes on
			return last.Way == anatomy.InChild || last.Way == anatomy.InPipe
		}
	}
	t.Steps = append(t.Steps, step)
	return step.Way == anatomy.InChild || step.Way == anatomy.InPipe
}

// way finds out what a thread waits in.
func (t *task) way(s *anatomy.Step, now time.Duration) {
	var buf [256]byte
	n, err := unix.Pread(t.call, buf[:], 0)
	if err != nil || n == 0 { // this is not permitted
		s.Way = map[byte]anatomy.Way{'D': anatomy.InDisk, 'S': anatomy.InOther}[t.state()]
		return
	}
	if buf[0] == 'r' { // it runs, or is ready to
		return
	}
	words := strings.Fields(string(buf[:n]))
	if words[0] == "-1" || len(words) < 9 {
		if s.Way = anatomy.InOther; t.state() == 'D' {
			s.Way = anatomy.InDisk
		}
		return
	}
	number, _ := strconv.ParseUint(words[0], 10, 64)
	var arg [6]uint64
	for i := range arg {
		arg[i], _ = strconv.ParseUint(strings.TrimPrefix(words[i+1], "0x"), 16, 64)
	}
	stack, _ := strconv.ParseUint(strings.TrimPrefix(words[7], "0x"), 16, 64)
	s.Call = number<<40 ^ arg[0]<<8 ^ arg[1] ^ stack
	if k := len(t.Steps); k > 0 && t.Steps[k-1].Call == s.Call && s.Run == 0 { // it goes on
		last := &t.Steps[k-1]
		if s.Way, s.On, s.Until = last.Way, last.On, last.Until; s.Way == anatomy.InLoop {
			s.On = t.of.connections(now) // they come and go
		}
		return
	}
	limit := func(nanoseconds int64) {
		if nanoseconds > 0 {
			s.Until = now + time.Duration(nanoseconds)
		}
	}
	timespec := func(at uint64) int64 {
		var raw [16]byte
		if at == 0 || !t.memory(at, raw[:]) {
			return 0
		}
		return int64(binary.NativeEndian.Uint64(raw[:]))*1e9 + int64(binary.NativeEndian.Uint64(raw[8:]))
	}
	switch calls[number] {
	case sleeps:
		s.Way = anatomy.InSleep
	case reads:
		s.Way, s.On = t.of.descriptor(int(int32(arg[0])), now)
	case polls:
		s.Way = anatomy.InLoop
		if number == pollIsMilliseconds {
			limit(int64(int32(arg[2])) * 1e6)
		} else {
			limit(timespec(arg[2]))
		}
		t.polled(s, arg[0], arg[1], now)
	case selects:
		s.Way, s.On = anatomy.InLoop, t.of.connections(now)
		nanoseconds := timespec(arg[4])
		if number == selectIsTimeval {
			nanoseconds = nanoseconds/1e9*1e9 + nanoseconds%1e9*1e3
		}
		limit(nanoseconds)
	case loops:
		s.Way, s.On = anatomy.InLoop, t.of.connections(now)
		limit(int64(int32(arg[3])) * 1e6)
	case locks:
		s.Way = anatomy.InLock
		const waitBitset, realtime, command = 9, 256, 0x7f
		if end := timespec(arg[3]); end > 0 {
			if arg[1]&command == waitBitset { // it is a moment, and not a duration
				clock := int32(unix.CLOCK_MONOTONIC)
				if arg[1]&realtime != 0 {
					clock = unix.CLOCK_REALTIME
				}
				var ts unix.Timespec
				_ = unix.ClockGettime(clock, &ts) // it always succeeds
				end -= ts.Nano()
			}
			limit(end)
		}
	case children:
		s.Way = anatomy.InChild
	default:
		if s.Way = anatomy.InOther; t.state() == 'D' {
			s.Way = anatomy.InDisk
		}
	}
}

// state returns the state of a thread, as ps has it.
func (t *task) state() byte {
	content, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stat", t.Process, t.ID))
	if at := bytes.LastIndexByte(content, ')'); at >= 0 && at+2 < len(content) {
		return content[at+2]
	}
	return 0
}

// memory reads the memory of a thread.
func (t *task) memory(at uint64, to []byte) bool { return peek(int(t.Process), at, to) == len(to) }

// peek reads the memory of a process, and returns how much of it there was.
func peek(pid int, at uint64, to []byte) int {
	local := []unix.Iovec{{Base: &to[0]}}
	local[0].SetLen(len(to))
	n, err := unix.ProcessVMReadv(pid, local, []unix.RemoteIovec{{Base: uintptr(at), Len: len(to)}}, 0)
	if err != nil {
		return 0
	}
	return n
}

// polled finds out what a thread waits for that waits for several descriptors.
func (t *task) polled(s *anatomy.Step, at, n uint64, now time.Duration) {
	const each = int(unsafe.Sizeof(unix.PollFd{}))
	raw := make([]byte, each*int(min(n, 16)))
	if len(raw) == 0 || !t.memory(at, raw) {
		return
	}
	for i := 0; i < len(raw); i += each {
		way, on := t.of.descriptor(int(int32(binary.NativeEndian.Uint32(raw[i:]))), now)
		if way == anatomy.InNetwork || way == anatomy.InPipe && s.On == "" {
			s.On = on
			if way == anatomy.InPipe && n == 1 {
				s.Way = way
			}
		}
	}
}

// descriptor returns what a thread waits for that waits for a descriptor.
func (p *process) descriptor(fd int, now time.Duration) (anatomy.Way, string) {
	to, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/%d", p.id, fd))
	switch {
	case err != nil:
		return anatomy.InOther, ""
	case strings.HasPrefix(to, "socket:["):
		return anatomy.InNetwork, p.address(strings.TrimSuffix(to[8:], "]"), now)
	case strings.HasPrefix(to, "pipe:["), strings.HasPrefix(to, "anon_inode:[eventfd"):
		return anatomy.InPipe, ""
	case strings.HasPrefix(to, "anon_inode:[timerfd"):
		return anatomy.InSleep, ""
	case strings.HasPrefix(to, "/dev/"):
		return anatomy.InFile, to
	}
	return anatomy.InDisk, to
}

// address returns where a socket leads to, by its inode.
func (p *process) address(inode string, now time.Duration) string {
	if a, ok := p.addresses[inode]; ok && a != "" {
		return a
	}
	const again = 8 * time.Millisecond
	if p.addressAt == 0 || now-p.addressAt > again {
		p.addressAt = now
		for _, table := range []string{"tcp", "tcp6", "udp", "udp6"} {
			content, _ := os.ReadFile(fmt.Sprintf("/proc/%d/net/%s", p.id, table))
			for i, line := range strings.Split(string(content), "\n") {
				f := strings.Fields(line)
				if i == 0 || len(f) < 10 {
					continue
				}
				if a, ok := proc.ParseAddress(f[2]); ok && a.Port() > 0 {
					p.addresses[f[9]] = netip.AddrPortFrom(a.Addr().Unmap(), a.Port()).String()
				}
			}
		}
		content, _ := os.ReadFile(fmt.Sprintf("/proc/%d/net/unix", p.id))
		for line := range strings.Lines(string(content)) {
			if f := strings.Fields(line); len(f) >= 7 && p.addresses[f[6]] == "" {
				p.addresses[f[6]] = "a Unix socket"
				if len(f) > 7 {
					p.addresses[f[6]] = text.Harmless(f[7])
				}
			}
		}
	}
	return p.addresses[inode]
}

// connections returns what the connections of a process lead to; "" for none.
func (p *process) connections(now time.Duration) string {
	again := 20 * time.Millisecond
	if p.sockets == "" {
		again = 10 * time.Millisecond
	}
	if p.socketsAt > 0 && now-p.socketsAt < again {
		return p.sockets
	}
	p.sockets, p.socketsAt = "", now
	dir := fmt.Sprintf("/proc/%d/fd", p.id)
	entries, _ := os.ReadDir(dir)
	var all []string
	const most = 200
	for _, e := range entries[:min(len(entries), most)] {
		to, err := os.Readlink(filepath.Join(dir, e.Name()))
		if err != nil || !strings.HasPrefix(to, "socket:[") {
			continue
		}
		if a := p.address(strings.TrimSuffix(to[8:], "]"), now); a != "" && a != "a Unix socket" &&
			!strings.HasPrefix(a, "/") && !slices.Contains(all, a) {
			all = append(all, a)
		}
	}
	p.sockets = strings.Join(all[:min(len(all), 3)], ", ")
	return p.sockets
}

// Seen returns why the threads of a start cannot be looked at here; "" where they can.
func Seen() string {
	for _, name := range []string{"schedstat", "syscall", "stat"} {
		if _, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/%s", os.Getpid(), os.Getpid(), name)); err != nil {
			return "it is not seen: " + err.Error()
		}
	}
	return ""
}
