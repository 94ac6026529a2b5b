package drive

import (
	"runtime"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// alarm is a sleep to the microsecond that can be broken off. It sits on a
// thread of its own: the runtime's timers wake only to the millisecond when the
// program is otherwise idle.
type alarm struct {
	fd     int // an eventfd
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
	_, _ = unix.Write(a.fd, []byte{1, 0, 0, 0, 0, 0, 0, 0})
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
		unix.Close(a.fd)
		return false
	}
	return true
}
