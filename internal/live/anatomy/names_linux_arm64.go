package anatomy

import "golang.org/x/sys/unix"

const auditArch = unix.AUDIT_ARCH_AARCH64

var names = map[uint64]named{
	unix.SYS_OPENAT: {itOpens, 1}, unix.SYS_OPENAT2: {itOpens, 1}, unix.SYS_FSTATAT: {itLooks, 1},
	unix.SYS_STATX: {itLooks, 1}, unix.SYS_FACCESSAT: {itLooks, 1}, unix.SYS_FACCESSAT2: {itLooks, 1},
	unix.SYS_READLINKAT: {itLooks, 1}, unix.SYS_EXECVE: {itRuns, 0}, unix.SYS_EXECVEAT: {itRuns, 1},
	unix.SYS_CONNECT: {what: itConnects}, unix.SYS_PTRACE: {what: itTraces}, unix.SYS_SECCOMP: {what: itTraces},
}

var wanted = []int{unix.SYS_OPENAT, unix.SYS_OPENAT2, unix.SYS_FSTATAT, unix.SYS_STATX, unix.SYS_FACCESSAT,
	unix.SYS_FACCESSAT2, unix.SYS_READLINKAT, unix.SYS_EXECVE, unix.SYS_EXECVEAT, unix.SYS_CONNECT, unix.SYS_PTRACE,
	unix.SYS_SECCOMP}
