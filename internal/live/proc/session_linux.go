package proc

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
)

// killSession kills what is left of a session: also processes that left their
// group. It reads the session of each process from /proc/PID/stat (proc(5)).
func killSession(session int) {
	for range 3 { // a process may fork while we look
		found := false
		dir, err := os.Open("/proc")
		if err != nil {
			return
		}
		names, _ := dir.Readdirnames(-1)
		dir.Close()
		for _, name := range names {
			pid, err := strconv.Atoi(name)
			if err != nil || pid == session {
				continue
			}
			if sessionOf(name) == session && syscall.Kill(pid, syscall.SIGKILL) == nil {
				found = true
			}
		}
		if !found {
			return
		}
	}
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
