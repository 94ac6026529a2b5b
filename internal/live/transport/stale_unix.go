//go:build unix

package transport

import (
	"net"
	"syscall"
)

// look peeks at the next byte of an idle connection: whether the other end has sent what no request
// asked for, and whether it has closed the connection.
func look(c net.Conn) (sent, closed bool) {
	sc, ok := c.(syscall.Conn)
	if !ok {
		return false, false
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return false, true
	}
	err = raw.Read(func(fd uintptr) bool {
		var one [1]byte
		n, _, err := syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		sent = err == nil && n > 0
		// nothing to read is how an idle connection should be
		closed = !sent && err != syscall.EAGAIN && err != syscall.EINTR
		return true
	})
	return sent, closed || err != nil
}
