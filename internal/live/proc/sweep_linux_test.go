package proc

import (
	"context"
	"net"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"syscall"
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
			at := other.Addr().(*net.TCPAddr).AddrPort()
			return slices.ContainsFunc(all, func(l Listener) bool { return l.Address == at })
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

// A port that was just found free is listened on by no one, whatever is being started at that
// moment: a process between fork and exec holds a copy of every socket.
func TestAFreePortIsFreeWhileOthersStart(t *testing.T) {
	d, err := openDiag()
	if err != nil {
		t.Skip(err)
	}
	defer d.close()
	_ = exec.Command("true").Run() // the first one of a program tries what the system can do, by forks of its own
	ctx, stop := context.WithCancel(t.Context())
	var starting sync.WaitGroup
	for range 4 {
		starting.Go(func() {
			for ctx.Err() == nil {
				_ = exec.Command("true").Run()
			}
		})
	}
	defer starting.Wait()
	defer stop()
	for range 3000 {
		port, err := FreePort()
		if err != nil {
			t.Fatal(err)
		}
		found, err := d.listenersOn([]int{port})
		if err != nil || len(found) > 0 {
			t.Fatalf("port %d: %v, %v", port, found, err)
		}
		GiveBack(port)
	}
}

// An orphan that could not be waited for yet does not stay until another process ends.
func TestTheDeadAreLookedAtAgain(t *testing.T) {
	adopt()
	orphan := exec.Command("sleep", "1000")
	orphan.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := orphan.Start(); err != nil {
		t.Fatal(err)
	}
	pid := orphan.Process.Pid
	orphans.Lock()
	orphans.dead[pid] = true
	lookAgain(time.Millisecond)
	orphans.Unlock()
	_ = syscall.Kill(pid, syscall.SIGKILL)
	for end := time.Now().Add(time.Minute); statOf(strconv.Itoa(pid)).state != 0; runtime.Gosched() {
		if time.Now().After(end) {
			t.Fatal("no one waited for it")
		}
	}
	orphans.Lock()
	defer orphans.Unlock()
	if orphans.dead[pid] {
		t.Error("it is still listed")
	}
}
