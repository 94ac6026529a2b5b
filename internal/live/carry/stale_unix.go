//go:build unix

package carry

import (
	"net"
	"syscall"
)

// stale tells whether the other end has closed an idle connection, or sent
// what nobody asked for, by looking at its next byte without taking it.
func stale(c net.Conn) bool {
	sc, ok := c.(syscall.Conn)
	if !ok {
		return false
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return true
	}
	gone := false
	err = raw.Read(func(fd uintptr) bool {
		var one [1]byte
		_, _, err := syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		// nothing to read is how an idle connection should be
		gone = err != syscall.EAGAIN && err != syscall.EINTR
		return true
	})
	return gone || err != nil
}
