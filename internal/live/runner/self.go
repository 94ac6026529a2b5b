package runner

import (
	"context"
	"io"
	"net"
	"time"

	"nightdrill.dev/internal/core/record"
)

const (
	echoesBefore = 100
	echoEvery    = 100 * time.Millisecond
	mostEchoes   = 3000 // of a run
	timers       = 60   // that are tried before a run
	timerAfter   = 500 * time.Microsecond
	echoPatience = time.Second
	gapEvery     = 10 * time.Millisecond // how often the clock is looked at
	gapFrom      = 60 * time.Millisecond // from how long on it did not run
	mostGaps     = 1000
)

// echo is a peer that sends back what it gets: a round trip without any function.
type echo struct {
	l    net.Listener
	conn net.Conn
}

func newEcho() (*echo, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		_, _ = io.Copy(c, c) // until the other side is closed
	}()
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		_ = l.Close()
		return nil, err
	}
	return &echo{l, conn}, nil
}

func (e *echo) close() {
	_ = e.conn.Close()
	_ = e.l.Close()
}

// trip takes one round trip of so many bytes as a small request has.
func (e *echo) trip() (time.Duration, bool) {
	var b [256]byte
	began := time.Now()
	_ = e.conn.SetDeadline(began.Add(echoPatience))
	if _, err := e.conn.Write(b[:]); err != nil {
		return 0, false
	}
	if _, err := io.ReadFull(e.conn, b[:]); err != nil {
		return 0, false
	}
	return time.Since(began), true
}

// checkSelf measures the machine before a run, and begins to measure it while the
// run goes on. The returned function stops that; then the result is in the run's record.
func (d *Drill) checkSelf(ctx context.Context) (stop func()) {
	self := &record.SelfCheck{Timer: timerLateness()}
	e, err := newEcho()
	if err != nil { // without it, the rest is still worth having
		d.rec.Self = self
		return func() {}
	}
	for i := range echoesBefore + 10 { // the first are of a connection that is not warm
		if t, ok := e.trip(); ok && i >= 10 {
			self.Before = append(self.Before, t)
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	gaps := watchGaps(ctx)
	done := make(chan struct{})
	wall := time.Now().Round(0)
	began := time.Now()
	go func() {
		defer close(done)
		tick := time.NewTicker(echoEvery)
		defer tick.Stop()
		for len(self.During) < mostEchoes {
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
			if t, ok := e.trip(); ok {
				self.During = append(self.During, t)
			}
		}
	}()
	return func() {
		cancel()
		<-done
		e.close()
		self.Jump = time.Now().Round(0).Sub(wall) - time.Since(began)
		found := <-gaps
		d.mu.Lock()
		for _, g := range found {
			if from, to := d.at(g[0]), d.at(g[1]); to > 0 {
				self.Gaps = append(self.Gaps, record.Gap{From: max(from, 0), To: to})
			}
		}
		d.rec.Self = self
		d.mu.Unlock()
	}
}

// watchGaps reads the clock often, until the context ends; then it sends the stretches in which the
// program itself did not run for longer than a busy machine explains.
func watchGaps(ctx context.Context) <-chan [][2]time.Time {
	out := make(chan [][2]time.Time, 1)
	go func() {
		var found [][2]time.Time
		tick := time.NewTicker(gapEvery)
		defer tick.Stop()
		last := time.Now()
		for {
			select {
			case <-tick.C:
			case <-ctx.Done():
				out <- found
				return
			}
			now := time.Now()
			if now.Sub(last) > gapFrom && len(found) < mostGaps {
				found = append(found, [2]time.Time{last, now})
			}
			last = now
		}
	}()
	return out
}

// timerLateness returns how late timers of the kind that events are taken by ring.
func timerLateness() []time.Duration {
	out := make([]time.Duration, 0, timers)
	done := make(chan struct{})
	go func() {
		defer close(done)
		a := newAlarm()
		a.prepare() // the thread goes with the goroutine
		for range timers {
			due := time.Now().Add(timerAfter)
			for left := timerAfter; left > 0; left = time.Until(due) {
				a.sleep(due)
			}
			out = append(out, time.Since(due))
		}
		a.close()
		a.sleep(time.Time{}) // which ends it
	}()
	<-done
	return out
}
