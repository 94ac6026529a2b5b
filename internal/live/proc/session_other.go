//go:build !linux

package proc

import "syscall"

// killSession kills what is left of the session's first process group; other
// groups of the session cannot be found here.
func adopt() {}

// killOrphans does nothing here: what left its session cannot be found.
func killOrphans(int, string) {}

func killSession(session int) { _ = syscall.Kill(-session, syscall.SIGKILL) }
