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
		env, err := os.ReadFile("/proc/" + name + "/environ")
		if err != nil {
			continue
		}
		for _, v := range bytes.Split(env, []byte{0}) {
			if string(v) == variable {
				pid, _ := strconv.Atoi(name)
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	}
}
