package store

import "golang.org/x/sys/unix"

// memory returns the memory of the machine in bytes, or 0 if that is not known.
func memory() uint64 {
	var all unix.Sysinfo_t
	if unix.Sysinfo(&all) != nil {
		return 0
	}
	return uint64(all.Totalram) * uint64(all.Unit)
}
