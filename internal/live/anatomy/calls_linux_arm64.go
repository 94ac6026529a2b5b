package anatomy

import "golang.org/x/sys/unix"

// calls are the system calls in which a thread waits.
var calls = map[uint64]kind{
	unix.SYS_NANOSLEEP: sleeps, unix.SYS_CLOCK_NANOSLEEP: sleeps,
	unix.SYS_READ: reads, unix.SYS_READV: reads, unix.SYS_PREAD64: reads, unix.SYS_WRITE: reads, unix.SYS_WRITEV: reads,
	unix.SYS_RECVFROM: reads, unix.SYS_RECVMSG: reads, unix.SYS_SENDTO: reads, unix.SYS_SENDMSG: reads,
	unix.SYS_CONNECT: reads, unix.SYS_ACCEPT: reads, unix.SYS_ACCEPT4: reads, unix.SYS_FSYNC: reads,
	unix.SYS_FDATASYNC: reads,
	unix.SYS_PPOLL:     polls, unix.SYS_PSELECT6: selects,
	unix.SYS_EPOLL_PWAIT: loops, unix.SYS_EPOLL_PWAIT2: loops,
	unix.SYS_FUTEX: locks,
	unix.SYS_WAIT4: children, unix.SYS_WAITID: children, unix.SYS_CLONE: children,
	unix.SYS_CLONE3: children, unix.SYS_EXECVE: children,
	unix.SYS_RT_SIGTIMEDWAIT: sleeps,
}

// pollIsMilliseconds is the one form of poll that has its limit as a number.
const pollIsMilliseconds = ^uint64(0)

const selectIsTimeval = ^uint64(0)
