package proc

import (
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Processes can leave their session and empty their environment, but not their birthmark: a
// soft limit of the time that they may run at real-time priority (RLIMIT_RTTIME, getrlimit(2)),
// which children inherit, whatever they are given. It is of many thousand years, and different
// for each process that is started here; this program itself, and with it editors that it
// opens, has one that no such process has.

// births is how many birthmarks there are below that of this program.
const births = 1 << 24

// base returns the birthmark of this program, in µs; 0 where it has none. Those of the
// processes that it starts are below.
var base = sync.OnceValue(func() uint64 {
	var now unix.Rlimit
	if unix.Prlimit(0, unix.RLIMIT_RTTIME, nil, &now) != nil {
		return 0
	}
	const least, most = uint64(1) << 55, uint64(1) << 62
	mine := unix.Rlimit{Cur: least + rand.Uint64N(most-least), Max: now.Max}
	if mine.Cur > now.Max || unix.Prlimit(0, unix.RLIMIT_RTTIME, &mine, nil) != nil {
		return 0 // someone really limits it
	}
	return mine.Cur
})

// bear calls start, which starts a process, so that it has a birthmark from its first moment, and
// returns the mark; 0 where there is none. This program has the mark meanwhile, as what it starts
// inherits its limits: the caller holds ours.births.
func bear(number int64, start func() error) (mark uint64, err error) {
	b := base()
	var own unix.Rlimit
	if b == 0 || unix.Prlimit(0, unix.RLIMIT_RTTIME, nil, &own) != nil {
		return 0, start()
	}
	marked := unix.Rlimit{Cur: b - 1 - uint64(number)%(births-1), Max: own.Max}
	if unix.Prlimit(0, unix.RLIMIT_RTTIME, &marked, nil) != nil {
		return 0, start()
	}
	defer unix.Prlimit(0, unix.RLIMIT_RTTIME, &own, nil) //nolint:errcheck // a soft limit that it had
	return marked.Cur, start()
}

// birthmark returns the birthmark of a process, as its ID in /proc says; 0 for none.
func birthmark(name string) uint64 {
	pid, err := strconv.Atoi(name)
	var now unix.Rlimit
	if err != nil || unix.Prlimit(pid, unix.RLIMIT_RTTIME, nil, &now) != nil || now.Cur == unix.RLIM_INFINITY {
		return 0
	}
	return now.Cur
}

// killBorn kills every process that was started by the program with a birthmark, whatever
// has become of it.
func killBorn(of uint64) {
	for _, name := range processes() {
		if b := birthmark(name); of > 0 && b < of && b > of-births {
			pid, _ := strconv.Atoi(name)
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// isOf reports whether a process is one that another started, by its session, its birthmark or
// its environment.
func isOf(name string, session int, mark string, birth uint64) bool {
	return sessionOf(name) == session || birth > 0 && birthmark(name) == birth || hasVariable(name, mark)
}

// endLeft ends what a process that has come to its end has left on purpose.
func endLeft(session int, mark string, birth uint64, grace time.Duration) {
	var asked []int
	for _, name := range processes() {
		if isOf(name, session, mark, birth) {
			pid, _ := strconv.Atoi(name)
			_ = syscall.Kill(pid, syscall.SIGTERM)
			asked = append(asked, pid)
		}
	}
	for end := time.Now().Add(grace); time.Now().Before(end) && left(session, mark, birth); {
		time.Sleep(20 * time.Millisecond)
	}
	cleanUp(session, mark, birth)
	orphans.Lock()
	defer orphans.Unlock()
	for _, pid := range asked { // those that came to this program
		if s := statOf(strconv.Itoa(pid)); s.state == 'Z' && s.parent == os.Getpid() && !ours.has(pid) {
			bury(pid)
		}
	}
	lookAgain(50 * time.Millisecond)
}

// left reports whether anything is left of a process.
func left(session int, mark string, birth uint64) bool {
	for _, name := range processes() {
		if s := statOf(name); s.state != 'Z' && s.state != 0 && isOf(name, session, mark, birth) {
			return true
		}
	}
	return false
}
