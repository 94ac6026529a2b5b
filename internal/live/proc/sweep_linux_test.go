package proc

import (
	"net"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"
)

// Whoever listens is found by the kernel's own list and by /proc alike, and is
// noticed; one that listens where it cannot be reached is not taken for ready.
func TestListenersAreNoticed(t *testing.T) {
	port, err := FreePort()
	if err != nil {
		t.Fatal(err)
	}
	defer GiveBack(port)
	ready, forget := awaitPort(port)
	defer forget()
	other, err := net.Listen("tcp", net.JoinHostPort("127.0.0.2", strconv.Itoa(port)))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	d, err := openDiag()
	if err != nil {
		t.Fatal(err)
	}
	defer d.close()
	both := 0
	for end := time.Now().Add(5 * time.Second); both < 3 && time.Now().Before(end); both++ {
		found, err := d.listeners()
		has := func(all []Listener) bool {
			return slices.ContainsFunc(all, func(
				l Listener) bool {
				return l.Address.String() == other.Addr().String()
			})
		}
		if err != nil || !has(found) || !has(listenersOfProc()) {
			t.Fatalf("%v: %v is not among %v, or not among %v", err, other.Addr(), found, listenersOfProc())
		}
	}
	select {
	case n := <-ready:
		t.Fatalf("noticed %v, though no one can be reached", n)
	default:
	}
	before := time.Now()
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if n := <-ready; n.at.Before(before) || n.within <= 0 {
		t.Errorf("noticed %v after it began to listen, within %v", n.at.Sub(before), n.within)
	}
}

// Cleaning up after one process never takes the end of another that is only just being
// started: each says how it ended.
func TestNoEndIsTakenFromAnother(t *testing.T) {
	const code = "exited with code 3"
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 40 {
				p, err := Start(Command{Args: []string{"sh", "-c", "exit 3"}})
				if err != nil {
					t.Error(err)
					return
				}
				if <-p.Done(); p.How() != code {
					t.Errorf("it %s, want %s", p.How(), code)
				}
			}
		})
	}
	all.Wait()
}
