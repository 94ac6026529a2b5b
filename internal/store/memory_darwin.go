package store

import "golang.org/x/sys/unix"

// memory returns the memory of the machine in bytes, or 0 if that is not known.
func memory() uint64 {
	n, _ := unix.SysctlUint64("hw.memsize")
	return n
}
