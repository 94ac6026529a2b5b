package proc

import (
	"runtime"
	"sync"
	"syscall"
)

// cgroupSlot is where a bounded process is started: in a control group that was made for
// it. Making one takes the system several milliseconds, so that some are kept
// ready. In version 1 of control groups a process is born where the thread is that
// starts it; then the slot has a thread that sits there, and lives as long as the
// process does (it would get the parent-death signal otherwise).
type cgroupSlot struct {
	group *group
	run   chan func(*syscall.SysProcAttr) // nil where the common spawner does
	leave chan struct{}
	left  chan struct{}
}

// newCgroupSlot makes a slot; nil where nothing is bounded.
func newCgroupSlot(b Bounds) (*cgroupSlot, error) {
	g, err := newGroup(b)
	if g == nil || err != nil {
		return nil, err
	}
	s := &cgroupSlot{group: g}
	if !g.needsThread() {
		return s, nil
	}
	s.run, s.leave = make(chan func(*syscall.SysProcAttr)), make(chan struct{})
	s.left = make(chan struct{})
	sat := make(chan error)
	go func() {
		runtime.LockOSThread() // for good: the thread ends with the goroutine
		adopt()
		base()
		turn(0, 0)
		err := g.sit()
		sat <- err
		if err != nil {
			return
		}
		for {
			select {
			case f := <-s.run:
				f(attributes())
			case <-s.leave:
				g.rise() // the program's first thread never ends
				close(s.left)
				return
			}
		}
	}()
	if err := <-sat; err != nil {
		g.remove()
		return nil, err
	}
	return s, nil
}

// start carries a start out at the slot; without one, on the common thread.
func (s *cgroupSlot) start(f func(*syscall.SysProcAttr)) {
	switch {
	case s == nil:
		spawner() <- func() { f(attributes()) }
	case s.run == nil:
		spawner() <- func() {
			a := attributes()
			s.group.enter(a)
			f(a)
		}
	default:
		s.run <- f
	}
}

// close frees the slot, with what is left in its group.
func (s *cgroupSlot) close() {
	if s == nil {
		return
	}
	if s.leave != nil {
		close(s.leave)
		<-s.left
	}
	s.group.kill()
	s.group.remove()
}

// reserved are the slots that are kept ready, by what they allow.
var reserved = struct {
	sync.Mutex
	of map[Bounds]*reserve
}{of: map[Bounds]*reserve{}}

type reserve struct {
	want, coming int
	ready        []*cgroupSlot
	busy         sync.WaitGroup // with making slots and giving them up
}

// Reserve keeps slots ready for processes with some bounds, until release.
func Reserve(b Bounds, n int) (release func()) {
	if (b == Bounds{}) {
		return func() {}
	}
	add := func(n int) *reserve {
		reserved.Lock()
		defer reserved.Unlock()
		r := reserved.of[b]
		if r == nil {
			r = &reserve{}
			reserved.of[b] = r
		}
		r.want += n
		r.fill(b)
		return r
	}
	add(n)
	return sync.OnceFunc(func() { add(-n).busy.Wait() })
}

// fill makes what is missing, in the background, and gives up what is too much; the
// lock is held.
func (r *reserve) fill(b Bounds) {
	for len(r.ready) > max(r.want, 0) {
		r.busy.Go(r.ready[0].close)
		r.ready = r.ready[1:]
	}
	if len(r.ready)+r.coming >= r.want {
		return
	}
	r.coming++
	r.busy.Go(func() {
		s, err := newCgroupSlot(b)
		reserved.Lock()
		defer reserved.Unlock()
		r.coming--
		if s == nil || err != nil {
			return // whoever starts a process hears of it
		}
		r.ready = append(r.ready, s)
		r.fill(b) // one after the other
	})
}

// takeCgroupSlot returns a slot that is ready, or makes one.
func takeCgroupSlot(b Bounds) (*cgroupSlot, error) {
	reserved.Lock()
	if r := reserved.of[b]; r != nil && len(r.ready) > 0 {
		s := r.ready[0]
		r.ready = r.ready[1:]
		r.fill(b)
		reserved.Unlock()
		return s, nil
	}
	reserved.Unlock()
	return newCgroupSlot(b)
}
