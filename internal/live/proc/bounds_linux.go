package proc

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// hierarchy is where groups of processes can be made: one folder for both
// controllers in version 2 of the kernel's control groups, one each in version 1
// (cgroups(7)).
type hierarchy struct {
	Enforcement
	version     int
	memory, cpu string // folders of this program's own groups; "" where there is none
	account     string // version 1: of the processor time
	mount       string // version 2
}

// Bounded returns how bounds are enforced here.
func Bounded() Enforcement { return groups().Enforcement }

var groups = sync.OnceValue(findGroups)

// made reports whether groups were looked for.
var made atomic.Bool

// findGroups finds a place where this program may make groups and set bounds.
func findGroups() *hierarchy {
	made.Store(true)
	two, one := cgroupMounts()
	if two.point != "" {
		if h := tryTwo(two); h != nil {
			return h
		}
	}
	if h := tryOne(one); h != nil {
		return h
	}
	why := "this system does not let the program create a control group"
	if os.Geteuid() != 0 {
		why += "; it would as root, or in a delegated group, such as systemd-run --user --scope -p Delegate=yes"
	}
	return &hierarchy{Enforcement: Enforcement{Why: why}}
}

// cgroupMount is a hierarchy and this program's place in it.
type cgroupMount struct{ point, own string }

func (m cgroupMount) dir() string { return filepath.Join(m.point, m.own) }

// cgroupMounts reads which hierarchies there are and where this program is in them.
func cgroupMounts() (two cgroupMount, one map[string]cgroupMount) {
	one = map[string]cgroupMount{}
	paths := map[string]string{} // by controller, "" for version 2
	text, _ := os.ReadFile("/proc/self/cgroup")
	for line := range strings.Lines(string(text)) {
		if parts := strings.SplitN(strings.TrimSpace(line), ":", 3); len(parts) == 3 {
			for c := range strings.SplitSeq(parts[1], ",") {
				paths[c] = parts[2]
			}
		}
	}
	text, _ = os.ReadFile("/proc/self/mountinfo")
	for line := range strings.Lines(string(text)) {
		before, after, ok := strings.Cut(line, " - ")
		left, right := strings.Fields(before), strings.Fields(after)
		if !ok || len(left) < 5 || len(right) < 3 {
			continue
		}
		// what the mount shows begins at its root within the hierarchy
		within := func(path string) string {
			rel, err := filepath.Rel(left[3], path)
			if err != nil || strings.HasPrefix(rel, "..") {
				return "/"
			}
			return rel
		}
		switch right[0] {
		case "cgroup2":
			if own, ok := paths[""]; ok {
				two = cgroupMount{left[4], within(own)}
			}
		case "cgroup":
			for option := range strings.SplitSeq(right[2], ",") {
				if own, ok := paths[option]; ok {
					one[option] = cgroupMount{left[4], within(own)}
				}
			}
		}
	}
	return two, one
}

// ownName is the name of this program's groups.
func ownName() string { return groupPrefix + strconv.Itoa(os.Getpid()) }

const groupPrefix = "nightdrill-"

// tryTwo finds a folder, from the program's own upwards, that is delegated to it: where it can make
// a group with both controllers.
func tryTwo(m cgroupMount) *hierarchy {
	for dir := m.dir(); strings.HasPrefix(dir, m.point); dir = filepath.Dir(dir) {
		if unix.Access(dir, unix.W_OK) != nil {
			continue
		}
		// a group with processes of its own cannot hand controllers on, save the root
		_ = os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte("+memory"), 0)
		_ = os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte("+cpu"), 0)
		removeOld(dir)
		own := filepath.Join(dir, ownName())
		if os.Mkdir(own, 0o755) != nil {
			continue
		}
		_ = os.WriteFile(filepath.Join(own, "cgroup.subtree_control"), []byte("+memory"), 0)
		_ = os.WriteFile(filepath.Join(own, "cgroup.subtree_control"), []byte("+cpu"), 0)
		h := &hierarchy{version: 2, mount: m.point}
		given, _ := os.ReadFile(filepath.Join(own, "cgroup.subtree_control"))
		for c := range strings.FieldsSeq(string(given)) {
			switch c {
			case "memory":
				h.memory, h.Memory = own, "cgroup v2"
			case "cpu":
				h.cpu, h.CPU = own, "cgroup v2"
			}
		}
		if h.Memory != "" || h.CPU != "" {
			h.lacking()
			tell("group %s\n", own)
			return h
		}
		_ = os.Remove(own)
	}
	return nil
}

func tryOne(mounts map[string]cgroupMount) *hierarchy {
	h := &hierarchy{version: 1}
	for c, to := range map[string]*string{"memory": &h.memory, "cpu": &h.cpu, "cpuacct": &h.account} {
		m, ok := mounts[c]
		if !ok {
			continue
		}
		removeOld(m.dir())
		own := filepath.Join(m.dir(), ownName())
		if os.Mkdir(own, 0o755) == nil || isDir(own) {
			*to = own
			tell("group %s\n", own)
		}
	}
	if h.memory != "" {
		h.Memory = "cgroup v1"
	}
	if h.cpu != "" {
		h.CPU = "cgroup v1"
	}
	if h.memory == "" && h.cpu == "" {
		return nil
	}
	h.lacking()
	return h
}

// removeOld removes groups of programs that were killed together with their wardens.
func removeOld(dir string) {
	old, _ := filepath.Glob(filepath.Join(dir, groupPrefix+"*"))
	for _, path := range old {
		pid, err := strconv.Atoi(strings.TrimPrefix(filepath.Base(path), groupPrefix))
		if err == nil && pid != os.Getpid() && syscall.Kill(pid, 0) == syscall.ESRCH {
			removeTrees([]string{path})
		}
	}
}

func isDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

func (h *hierarchy) lacking() {
	switch {
	case h.Memory == "":
		h.Why = "the memory controller is not delegated to this program"
	case h.CPU == "":
		h.Why = "the cpu controller is not delegated to this program"
	}
}

// group is the control group of one process and its children.
type group struct {
	h       *hierarchy
	dirs    []string // in each hierarchy
	memory  string
	account string
	fd      *os.File // version 2: the folder that a process is born in
}

var groupNumber struct {
	sync.Mutex
	n int
}

// newGroup makes a group with bounds; nil where nothing can be enforced, or
// nothing is to be.
func newGroup(b Bounds) (*group, error) {
	if (b == Bounds{}) {
		return nil, nil
	}
	h := groups()
	if h.version == 0 {
		return nil, nil
	}
	groupNumber.Lock()
	groupNumber.n++
	name := strconv.Itoa(groupNumber.n)
	groupNumber.Unlock()
	g := &group{h: h}
	join := func(parent string) string {
		if parent == "" {
			return ""
		}
		dir := filepath.Join(parent, name)
		for _, known := range g.dirs {
			if known == dir {
				return dir
			}
		}
		if os.Mkdir(dir, 0o755) != nil {
			return ""
		}
		g.dirs = append(g.dirs, dir)
		return dir
	}
	g.memory = join(h.memory)
	cpu := join(h.cpu)
	if g.account = cpu; h.version == 1 {
		g.account = join(h.account)
	}
	var errs []error
	set := func(dir, file, value string) {
		if dir == "" {
			return
		}
		err := os.WriteFile(filepath.Join(dir, file), []byte(value), 0)
		if file == "cpu.cfs_quota_us" && errors.Is(err, unix.EINVAL) {
			return // a group above allows less, which holds for this one, too
		}
		errs = append(errs, err)
	}
	const period = 100_000 // µs
	quota := strconv.Itoa(max(int(b.CPU*period), 1000))
	if h.version == 2 {
		if b.Memory > 0 {
			set(g.memory, "memory.max", strconv.FormatInt(b.Memory, 10))
			// what there is no swap for cannot be set, and need not be
			_ = os.WriteFile(filepath.Join(g.memory, "memory.swap.max"), []byte("0"), 0)
			_ = os.WriteFile(filepath.Join(g.memory, "memory.oom.group"), []byte("1"), 0)
		}
		if b.CPU > 0 {
			set(cpu, "cpu.max", quota+" "+strconv.Itoa(period))
		}
		var err error
		if g.fd, err = os.Open(g.dirs[0]); err != nil {
			errs = append(errs, err)
		}
	} else {
		if b.Memory > 0 {
			set(g.memory, "memory.limit_in_bytes", strconv.FormatInt(b.Memory, 10))
			_ = os.WriteFile(filepath.Join(g.memory, "memory.memsw.limit_in_bytes"),
				[]byte(strconv.FormatInt(b.Memory, 10)), 0)
		}
		if b.CPU > 0 {
			set(cpu, "cpu.cfs_period_us", strconv.Itoa(period))
			set(cpu, "cpu.cfs_quota_us", quota)
		}
	}
	if err := errors.Join(errs...); err != nil {
		g.remove()
		return nil, fmt.Errorf("cannot set its bounds: %w", err)
	}
	return g, nil
}

// needsThread reports whether a process gets into the group only by way of the thread
// that starts it.
func (g *group) needsThread() bool { return g.h.version == 1 }

// enter makes what is started with the attributes start in the group (version 2).
func (g *group) enter(a *syscall.SysProcAttr) { a.UseCgroupFD, a.CgroupFD = true, int(g.fd.Fd()) }

// sit moves the calling thread into the group (version 1). It must not go back to other work.
func (g *group) sit() error {
	thread := []byte(strconv.Itoa(syscall.Gettid()))
	for _, dir := range g.dirs {
		if err := os.WriteFile(filepath.Join(dir, "tasks"), thread, 0); err != nil {
			return fmt.Errorf("no process can be put into a control group: %w", err)
		}
	}
	return nil
}

// rise takes the calling thread out of the group again, to where the program is.
func (g *group) rise() {
	thread := []byte(strconv.Itoa(syscall.Gettid()))
	for _, dir := range g.dirs {
		_ = os.WriteFile(filepath.Join(filepath.Dir(filepath.Dir(dir)), "tasks"), thread, 0)
	}
}

func readNumber(dir, file string) int64 {
	text, err := os.ReadFile(filepath.Join(dir, file))
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseInt(string(bytes.TrimSpace(text)), 10, 64)
	return n
}

// readField returns a value of a file of lines of a name and a number.
func readField(dir, file, name string) int64 {
	text, err := os.ReadFile(filepath.Join(dir, file))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, name+" "); ok {
			n, _ := strconv.ParseInt(strings.TrimSpace(rest), 10, 64)
			return n
		}
	}
	return 0
}

// usage returns what the group has used.
func (g *group) usage() (u Usage) {
	if g.h.version == 2 {
		if g.memory != "" {
			if u.Peak = readNumber(g.memory, "memory.peak"); u.Peak == 0 {
				u.Peak = readNumber(g.memory, "memory.current")
			}
			u.Killed = readField(g.memory, "memory.events", "oom_kill") > 0
		}
		if g.account != "" {
			u.CPU = time.Duration(readField(g.account, "cpu.stat", "usage_usec")) * time.Microsecond
		}
		return u
	}
	if g.memory != "" {
		u.Peak = readNumber(g.memory, "memory.max_usage_in_bytes")
		u.Killed = readField(g.memory, "memory.oom_control", "oom_kill") > 0
	}
	if g.account != "" {
		u.CPU = time.Duration(readNumber(g.account, "cpuacct.usage"))
	}
	return u
}

// members returns the processes of the group.
func (g *group) members() (pids []int) { return groupMembers(g.dirs) }

func groupMembers(dirs []string) (pids []int) {
	if len(dirs) == 0 {
		return nil
	}
	f, err := os.Open(filepath.Join(dirs[0], "cgroup.procs"))
	if err != nil {
		return nil
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if pid, err := strconv.Atoi(lines.Text()); err == nil && pid != os.Getpid() {
			pids = append(pids, pid)
		}
	}
	return pids
}

// kill ends every process of the group.
func (g *group) kill() {
	if g == nil {
		return
	}
	for range 5 { // what forks meanwhile is found the next time
		pids := g.members()
		for _, pid := range pids {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		if len(pids) == 0 {
			return
		}
	}
}

// remove takes the group away; what is left in it is ended.
func (g *group) remove() {
	if g == nil {
		return
	}
	if g.fd != nil {
		g.fd.Close()
	}
	removeGroups(g.dirs)
}

// removeGroups removes groups, which are busy for a moment after their last
// process has ended.
func removeGroups(dirs []string) {
	for range 100 {
		left := 0
		for _, dir := range dirs {
			if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
				left++
			}
		}
		if left == 0 {
			return
		}
		for _, pid := range groupMembers(dirs) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(time.Millisecond)
	}
}

// Ungroup takes the program's own groups away, at its end.
func Ungroup() {
	if !made.Load() {
		return
	}
	h := groups()
	var own []string
	for _, dir := range []string{h.memory, h.cpu, h.account} {
		if dir != "" {
			own = append(own, dir)
		}
	}
	removeTrees(own)
}

// removeTrees removes groups with the groups within.
func removeTrees(own []string) {
	for _, dir := range own {
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			if e.IsDir() {
				removeGroups([]string{filepath.Join(dir, e.Name())})
			}
		}
		_ = os.Remove(dir)
	}
}

// meter returns what processes are counted by here.
func meter() string {
	if h := groups(); h.memory != "" {
		return "control groups"
	}
	return "the processes of each session"
}

// Sample reads what processes and all that they started use now, in one look at the
// machine's processes (proc(5)). Those that have a control group are counted by it, and
// are left out here.
func Sample(all []*Process) {
	of := map[int]*Process{}
	for _, p := range all {
		if p.slot == nil || p.slot.group.memory == "" || p.slot.group.account == "" {
			of[p.PID] = p
		}
	}
	if len(of) == 0 {
		return
	}
	stats, used := map[int]processStat{}, map[*Process]Usage{}
	for _, name := range processes() {
		if s := statOf(name); s.state != 0 {
			pid, _ := strconv.Atoi(name)
			stats[pid] = s
		}
	}
	self := os.Getpid()
	var owner func(pid int, depth int) *Process
	owner = func(pid, depth int) *Process {
		s, known := stats[pid]
		if p := of[pid]; p != nil {
			return p
		}
		if p := of[s.session]; p != nil {
			return p
		}
		if !known || depth > 64 || s.parent <= 1 {
			return nil
		}
		if s.parent != self {
			return owner(s.parent, depth+1)
		}
		// it left its session, and the one that started it has ended
		if ours.has(pid) {
			return nil
		}
		for _, p := range of {
			if hasVariable(strconv.Itoa(pid), p.mark) {
				return p
			}
		}
		return nil
	}
	for pid, s := range stats {
		if p := owner(pid, 0); p != nil {
			u := used[p]
			u.Peak += s.resident
			u.CPU += s.cpu
			used[p] = u
		}
	}
	for p, u := range used {
		// between two looks, the first process may have had more than all of them now
		u.Peak = max(u.Peak, sample(p.PID).Peak)
		p.saw(u)
	}
}

// sample reads what a process has used so far from /proc (proc(5)): its highest
// resident size and its processor time.
func sample(pid int) (u Usage) {
	dir := "/proc/" + strconv.Itoa(pid)
	status, err := os.ReadFile(dir + "/status")
	if err != nil {
		return u
	}
	if _, after, ok := bytes.Cut(status, []byte("VmHWM:")); ok {
		if fields := bytes.Fields(after[:min(len(after), 40)]); len(fields) > 0 {
			kb, _ := strconv.ParseInt(string(fields[0]), 10, 64)
			u.Peak = kb << 10
		}
	}
	u.CPU = statOf(strconv.Itoa(pid)).cpu
	return u
}

// Computed returns for how long the threads of a process, and of those that it started, have had a processor so far,
// and for how long they have waited for one (/proc/PID/task/TID/schedstat and children, proc(5)). Threads that have
// ended are not in it; where it is not known, both are 0.
func (p *Process) Computed() (cpu, waited time.Duration) {
	seen := map[string]bool{}
	var add func(pid string)
	add = func(pid string) {
		if seen[pid] || len(seen) >= mostCounted {
			return
		}
		seen[pid] = true
		dir := "/proc/" + pid + "/task/"
		tasks, _ := os.ReadDir(dir) // none of a process that has ended
		for _, t := range tasks {
			var ran, delayed int64
			content, _ := os.ReadFile(dir + t.Name() + "/schedstat")
			if fields := bytes.Fields(content); len(fields) > 1 {
				ran, _ = strconv.ParseInt(string(fields[0]), 10, 64)
				delayed, _ = strconv.ParseInt(string(fields[1]), 10, 64)
			}
			cpu, waited = cpu+time.Duration(ran), waited+time.Duration(delayed)
			content, _ = os.ReadFile(dir + t.Name() + "/children")
			for child := range strings.FieldsSeq(string(content)) {
				add(child)
			}
		}
	}
	add(strconv.Itoa(p.PID))
	return cpu, waited
}

// mostCounted bounds the processes whose threads are counted.
const mostCounted = 1_000

// clockTicks is the unit of processor times in /proc: 1/100 s on every Linux.
const clockTicks = 100
