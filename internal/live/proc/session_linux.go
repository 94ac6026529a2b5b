package proc

import (
	"bytes"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// killSession kills what is left of a session: also processes that left their
// group.
func killSession(session int) {
	for range 3 { // a process may fork while we look
		found := false
		for _, name := range sessionMembers(session) {
			pid, _ := strconv.Atoi(name)
			if pid != session && syscall.Kill(pid, syscall.SIGKILL) == nil {
				found = true
			}
		}
		if !found {
			return
		}
	}
}

// orphans are processes whose parents have ended, and which came to this program:
// it asks to be the one that they come to (prctl(2), PR_SET_CHILD_SUBREAPER).
var orphans struct {
	sync.Mutex
	asked bool
	dead  map[int]bool // seen as ended once, or killed, and no one waited for them
	again bool         // another look at the dead is due
}

func adopt() {
	orphans.Lock()
	defer orphans.Unlock()
	if !orphans.asked {
		orphans.asked, orphans.dead = true, map[int]bool{}
		_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) // where it is refused they go to init
	}
}

// cleanUp kills what a process that has ended leaves: what is in its session, and what
// has its birthmark, or its mark in the environment, and left the session. It waits for those
// orphans that have ended.
func cleanUp(session int, mark string, birth uint64) {
	orphans.Lock()
	defer orphans.Unlock()
	self, own := os.Getpid(), sessionOf("self")
	seen := map[int]bool{} // to have ended, at this time
	defer func() {
		for pid := range seen {
			orphans.dead[pid] = true
		}
		lookAgain(50 * time.Millisecond)
	}()
	for range 10 { // those that they had started come only now
		found := false
		for _, name := range processes() {
			s := statOf(name)
			born := birth > 0 && birthmark(name) == birth
			if s.session != session && !born && (s.parent != self || s.session == own) {
				continue
			}
			pid, _ := strconv.Atoi(name)
			switch {
			case ours.has(pid):
			case born && s.state != 'Z':
				if syscall.Kill(pid, syscall.SIGKILL) == nil {
					found = true
				}
				if s.parent == self {
					bury(pid)
				}
			case s.session == session:
				_ = syscall.Kill(pid, syscall.SIGKILL)
				if found = true; s.parent == self {
					bury(pid)
				}
			case s.state == 'Z' && s.parent != self: // whoever started it waits for it
			case s.state == 'Z':
				if !orphans.dead[pid] { // it may be one that is only just being started
					seen[pid] = true
					break
				}
				waitFor(pid)
			case hasVariable(name, mark) && syscall.Kill(pid, syscall.SIGKILL) == nil:
				found = true
				bury(pid)
			}
		}
		if !found {
			return
		}
	}
}

// bury waits a moment for the end of a process that was killed.
func bury(pid int) {
	for range 100 {
		if got, err := syscall.Wait4(pid, nil, syscall.WNOHANG, nil); got == pid || err != nil && err != syscall.EINTR {
			return
		}
		time.Sleep(time.Millisecond)
	}
	orphans.dead[pid] = true // the next look finds it
}

// waitFor takes an orphan that has ended off the list, and off the system's.
func waitFor(pid int) {
	delete(orphans.dead, pid)
	ours.births.Lock()
	defer ours.births.Unlock()
	if !ours.has(pid) { // nor has it become one of them since it was seen
		_, _ = syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
	}
}

// lookAgain waits for the orphans that have ended by then, later and later, until none is left: the
// process that ends next, and looks for its own, may be a long time coming.
func lookAgain(after time.Duration) {
	if orphans.again || len(orphans.dead) == 0 {
		return
	}
	orphans.again = true
	time.AfterFunc(after, func() {
		orphans.Lock()
		defer orphans.Unlock()
		orphans.again = false
		for pid := range orphans.dead {
			switch s := statOf(strconv.Itoa(pid)); {
			case s.parent != os.Getpid():
				delete(orphans.dead, pid)
			case s.state == 'Z':
				waitFor(pid)
			}
		}
		lookAgain(min(2*after, 10*time.Second))
	})
}

// sessionMembers returns the live processes of a session. It reads the session of
// each process from /proc/PID/stat (proc(5)).
func sessionMembers(session int) (pids []string) {
	for _, name := range processes() {
		if sessionOf(name) == session {
			pids = append(pids, name)
		}
	}
	return pids
}

// processes returns the process IDs of the machine.
func processes() (pids []string) {
	dir, err := os.Open("/proc")
	if err != nil {
		return nil
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	for _, name := range names {
		if name[0] >= '1' && name[0] <= '9' {
			pids = append(pids, name)
		}
	}
	return pids
}

// sessionOf returns the session of a live process, or 0.
func sessionOf(pid string) int {
	s := statOf(pid)
	if s.state == 'Z' {
		return 0
	}
	return s.session
}

// exiting is PF_EXITING of Linux's include/linux/sched.h, among a process's flags (proc(5)).
const exiting = 4

type processStat struct {
	state           byte // 0 of a process that is gone
	ending          bool // its main thread is
	parent, session int
	cpu             time.Duration // its own, and that of its children it has waited for
	resident        int64         // bytes
}

func statOf(pid string) (s processStat) {
	text, err := os.ReadFile("/proc/" + pid + "/stat")
	if err != nil {
		return s
	}
	// the name in brackets may hold anything; the fields after it are
	// state, parent, group, session
	fields := bytes.Fields(text[bytes.LastIndexByte(text, ')')+1:])
	if len(fields) < 4 {
		return s
	}
	s.state = fields[0][0]
	s.parent, _ = strconv.Atoi(string(fields[1]))
	s.session, _ = strconv.Atoi(string(fields[3]))
	if len(fields) > 6 {
		flags, _ := strconv.ParseUint(string(fields[6]), 10, 64)
		s.ending = flags&exiting != 0
	}
	if len(fields) > 21 {
		ticks := int64(0)
		for _, f := range fields[11:15] { // user and system time, and those of children
			n, _ := strconv.ParseInt(string(f), 10, 64)
			ticks += n
		}
		s.cpu = time.Duration(ticks) * (time.Second / clockTicks)
		pages, _ := strconv.ParseInt(string(fields[21]), 10, 64)
		s.resident = pages * int64(os.Getpagesize())
	}
	return s
}

// Ending reports whether the process has ended, or is about to, though no one was told yet.
func (p *Process) Ending() bool {
	s := statOf(strconv.Itoa(p.PID))
	return s.state == 0 || s.state == 'Z' || s.state == 'X' || s.ending
}
