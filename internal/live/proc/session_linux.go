package proc

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
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

// sessionMembers gives the live processes of a session. It reads the session of
// each process from /proc/PID/stat (proc(5)).
func sessionMembers(session int) (pids []string) {
	for _, name := range processes() {
		if sessionOf(name) == session {
			pids = append(pids, name)
		}
	}
	return pids
}

// processes gives the process IDs of the machine.
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

// sessionOf gives the session of a live process, or 0.
func sessionOf(pid string) int {
	text, err := os.ReadFile("/proc/" + pid + "/stat")
	if err != nil {
		return 0
	}
	// the name in brackets may hold anything; the fields after it are
	// state, parent, group, session
	fields := bytes.Fields(text[bytes.LastIndexByte(text, ')')+1:])
	if len(fields) < 4 || fields[0][0] == 'Z' {
		return 0
	}
	n, _ := strconv.Atoi(string(fields[3]))
	return n
}
