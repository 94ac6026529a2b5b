//go:build !linux

package proc

import (
	"net"
	"net/netip"
	"strconv"
	"time"
)

// sweepEvery is the time between two tries to connect.
const sweepEvery = time.Millisecond

// awaitPort returns a channel on which it is told when something listens on a
// port of 127.0.0.1: it tries to connect again and again. forget ends that.
func awaitPort(port int) (ready <-chan noticed, forget func()) {
	c, stop := make(chan noticed, 1), make(chan struct{})
	go func() {
		tick := time.NewTicker(sweepEvery)
		defer tick.Stop()
		last := time.Now()
		for {
			began := time.Now()
			if conn, err := net.DialTimeout("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)),
				time.Second); err == nil {
				conn.Close()
				c <- noticed{time.Now(), time.Since(last)}
				return
			}
			last = began
			select {
			case <-tick.C:
			case <-stop:
				return
			}
		}
	}()
	return c, func() { close(stop) }
}

// Listens is not known here.
func (p *Process) Listens() []netip.AddrPort { return nil }

// firstEphemeral returns the lowest port that the system hands out by itself
// (RFC 6335 §6, which macOS and the BSDs keep to).
func firstEphemeral() int { return 49152 }
