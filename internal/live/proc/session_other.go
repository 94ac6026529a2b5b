//go:build !linux

package proc

import "syscall"

// killSession kills what is left of the session's first process group; other
// groups of the session cannot be found here.
func adopt() {}

// cleanUp kills what a process that has ended leaves in its session; what left that
// cannot be found here.
func cleanUp(session int, _ string, _ uint64) { killSession(session) }

func killSession(session int) { _ = syscall.Kill(-session, syscall.SIGKILL) }

// Ending reports whether the process is about to end; here, that cannot be seen.
func (p *Process) Ending() bool { return false }
