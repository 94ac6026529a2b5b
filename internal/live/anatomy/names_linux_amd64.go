package anatomy

import "golang.org/x/sys/unix"

const auditArch = unix.AUDIT_ARCH_X86_64

var names = map[uint64]named{
	unix.SYS_OPEN: {itOpens, 0}, unix.SYS_OPENAT: {itOpens, 1}, unix.SYS_OPENAT2: {itOpens, 1},
	unix.SYS_STAT: {itLooks, 0}, unix.SYS_LSTAT: {itLooks, 0}, unix.SYS_NEWFSTATAT: {itLooks, 1},
	unix.SYS_STATX: {itLooks, 1}, unix.SYS_ACCESS: {itLooks, 0}, unix.SYS_FACCESSAT: {itLooks, 1},
	unix.SYS_FACCESSAT2: {itLooks, 1}, unix.SYS_READLINK: {itLooks, 0}, unix.SYS_READLINKAT: {itLooks, 1},
	unix.SYS_EXECVE: {itRuns, 0}, unix.SYS_EXECVEAT: {itRuns, 1}, unix.SYS_CONNECT: {what: itConnects},
	unix.SYS_PTRACE: {what: itTraces}, unix.SYS_SECCOMP: {what: itTraces},
}

var wanted = []int{unix.SYS_OPEN, unix.SYS_OPENAT, unix.SYS_OPENAT2, unix.SYS_STAT, unix.SYS_LSTAT,
	unix.SYS_NEWFSTATAT, unix.SYS_STATX, unix.SYS_ACCESS, unix.SYS_FACCESSAT, unix.SYS_FACCESSAT2, unix.SYS_READLINK,
	unix.SYS_READLINKAT, unix.SYS_EXECVE, unix.SYS_EXECVEAT, unix.SYS_CONNECT, unix.SYS_PTRACE, unix.SYS_SECCOMP}
