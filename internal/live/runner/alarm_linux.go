package runner

import (
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// alarm is a sleep to the microsecond that can be interrupted. It sits on a
// thread of its own: the runtime's timers wake only to the millisecond when the
// program is otherwise idle.
type alarm struct {
	mu     sync.Mutex // guards fd: a number that was closed may be someone else's file by now
	fd     int        // an eventfd, or -1 when the sleeper is gone
	closed atomic.Bool
}

func newAlarm() *alarm {
	fd, err := unix.Eventfd(0, unix.EFD_NONBLOCK|unix.EFD_CLOEXEC)
	if err != nil {
		panic("no event descriptor: " + err.Error())
	}
	return &alarm{fd: fd}
}

// prepare makes the calling goroutine's thread its own, with timers that are
// not rounded.
func (a *alarm) prepare() {
	runtime.LockOSThread()
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0) // rounded to 50 µs otherwise, which is no error
}

// ring breaks the sleep off.
func (a *alarm) ring() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.fd >= 0 {
		_, _ = unix.Write(a.fd, []byte{1, 0, 0, 0, 0, 0, 0, 0}) // full is as good as rung
	}
}

// close ends the sleeper: its sleep returns false.
func (a *alarm) close() {
	a.closed.Store(true)
	a.ring()
}

// sleep sleeps until a time, or until ring; the zero time is never.
func (a *alarm) sleep(until time.Time) bool {
	fds := []unix.PollFd{{Fd: int32(a.fd), Events: unix.POLLIN}}
	var ts *unix.Timespec
	if !until.IsZero() {
		left := max(time.Until(until), 0)
		t := unix.NsecToTimespec(int64(left))
		ts = &t
	}
	if n, _ := unix.Ppoll(fds, ts, nil); n > 0 {
		var b [8]byte
		_, _ = unix.Read(a.fd, b[:])
	}
	if a.closed.Load() {
		a.mu.Lock()
		defer a.mu.Unlock()
		unix.Close(a.fd)
		a.fd = -1
		return false
	}
	return true
}
