package proc

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
	"syscall"
)

// Ports are chosen below those that the system hands out by itself, so that no
// other program's connection can get one between our choice and the function's
// listening. The UDP port of the same number is held as long as the port is
// given out: another Night Drill that tries the same finds it taken, and the
// claim goes with the process however that ends.

const lowestPort = 15000

var ports struct {
	sync.Mutex
	held map[int]net.PacketConn
	next int
}

// FreePort returns a port of 127.0.0.1 that no one listens on, and that no one
// else is given until GiveBack.
func FreePort() (int, error) {
	ports.Lock()
	defer ports.Unlock()
	highest := firstEphemeral() - 1
	if highest < lowestPort+1000 {
		highest = 65535
	}
	if ports.held == nil {
		ports.held = map[int]net.PacketConn{}
		ports.next = lowestPort + rand.IntN(highest-lowestPort)
	}
	for range highest - lowestPort {
		if ports.next++; ports.next > highest {
			ports.next = lowestPort
		}
		port := ports.next
		if ports.held[port] != nil {
			continue
		}
		claim, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port})
		if err == nil {
			if err = listenOnce(port); err == nil {
				ports.held[port] = claim
				return port, nil
			}
			claim.Close()
		}
		if err := filesRunOut(err); err != nil {
			return 0, err // it would be the same with every port
		}
	}
	return 0, errors.New("no free port was found")
}

// listenOnce finds out that no one listens on a port, by listening there for a moment. Nothing is
// forked meanwhile: a process between fork and exec has a copy of every socket, and would look
// as if it listened itself. [syscall.ForkLock] keeps that for processes that every part of the
// program starts, where a fork returns after exec (Linux); elsewhere the thread that starts
// instances helps.
func listenOnce(port int) error {
	tried := make(chan error)
	spawner() <- func() {
		syscall.ForkLock.RLock()
		defer syscall.ForkLock.RUnlock()
		l, err := net.ListenTCP("tcp4", &net.TCPAddr{Port: port}) // on all addresses: a function may listen on them
		if err == nil {
			l.Close()
		}
		tried <- err
	}
	return <-tried
}

// filesRunOut returns what to say where an error is that no more files can be opened,
// and nil where it is another or none.
func filesRunOut(err error) error {
	switch {
	case errors.Is(err, syscall.ENFILE):
		return fmt.Errorf("this machine has no free file descriptors: %w", syscall.ENFILE)
	case errors.Is(err, syscall.EMFILE):
		var most syscall.Rlimit
		_ = syscall.Getrlimit(syscall.RLIMIT_NOFILE, &most)
		return fmt.Errorf("%w: %d is this program's limit, and every instance needs some; raise it (ulimit -n), "+
			"or limit the instances (concurrency)",
			syscall.EMFILE, most.Cur)
	}
	return nil
}

// GiveBack releases a port.
func GiveBack(port int) {
	ports.Lock()
	defer ports.Unlock()
	if c := ports.held[port]; c != nil {
		c.Close()
		delete(ports.held, port)
	}
}
