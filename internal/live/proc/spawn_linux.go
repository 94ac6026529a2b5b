package proc

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
)

// attributes of a new process: a session of its own, and death with the thread
// that starts it, which lives as long as the program does.
func attributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
}

// killMarked kills every process that has an environment variable, as name=value.
func killMarked(variable string) {
	for _, name := range processes() {
		if hasVariable(name, variable) {
			pid, _ := strconv.Atoi(name)
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

func hasVariable(pid, variable string) bool {
	env, err := os.ReadFile("/proc/" + pid + "/environ")
	if err != nil {
		return false
	}
	for v := range bytes.SplitSeq(env, []byte{0}) {
		if string(v) == variable {
			return true
		}
	}
	return false
}
