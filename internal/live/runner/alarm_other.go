//go:build !linux

package runner

import "time"

// alarm is a sleep that can be interrupted.
type alarm struct {
	bell   chan struct{}
	closed chan struct{}
}

func newAlarm() *alarm {
	return &alarm{bell: make(chan struct{}, 1), closed: make(chan struct{})}
}

func (a *alarm) prepare() {}

// ring breaks the sleep off.
func (a *alarm) ring() {
	select {
	case a.bell <- struct{}{}:
	default:
	}
}

// close ends the sleeper: its sleep returns false.
func (a *alarm) close() { close(a.closed) }

// sleep sleeps until a time, or until ring; the zero time is never.
func (a *alarm) sleep(until time.Time) bool {
	var after <-chan time.Time
	if !until.IsZero() {
		t := time.NewTimer(time.Until(until))
		defer t.Stop()
		after = t.C
	}
	select {
	case <-a.bell:
	case <-after:
	case <-a.closed:
		return false
	}
	return true
}
