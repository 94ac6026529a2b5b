package doctor

import "golang.org/x/sys/unix"

const rlimitProcesses = unix.RLIMIT_NPROC
