package runner

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/upstream"
)

// launched is a process of a function, and where it is to be reached.
type launched struct {
	process  *proc.Process
	port     int
	socket   string
	address  string
	expected *proc.Expected // nil where it listens on nothing
	loader   *loaded        // of a handler; nil for others
	caller   *caller        // who calls upstreams; set before it is launched
	gate     *upstream.Gate // to upstreams; nil for none
	name     atomic.Value   // of the instance that it belongs to, for its log lines
}

// launch starts a process of a function. unique is its name on this machine. What
// it is given to listen on is set, also when it does not start.
func (d *Runner) launch(l *launched, fn *plan.Function, unique, name string, env ...string) (began time.Time,
	err error) {
	l.name.Store(name)
	if fn.Transport == plan.HTTPTransport {
		if err := d.place(l, fn); err != nil {
			return time.Now(), err
		}
	}
	if fn.Transport == plan.Loaded {
		if l.loader, err = d.listen(fn); err != nil {
			return time.Now(), err
		}
	}
	c := l.command(fn, fn.Start, unique)
	c.Env = append(withPublish(c.Env, plan.Reach(fn.ReachAt, d.publish), plan.Reach(fn.ReachAt, d.mqtt)), env...)
	if c.Env, err = d.withUpstreams(l, fn, c.Env); err != nil {
		l.forget()
		return time.Now(), err
	}
	c.Env = d.withSpans(fn, name, c.Env)
	if l.loader != nil {
		c.Extra, l.loader.theirs = l.loader.theirs, nil
	}
	c.Bounds, c.Talk = boundsOf(fn), fn.Transport == plan.Lines || fn.Transport == plan.OneShot
	if fn.Stop != nil {
		c.After = l.command(fn, fn.Stop, unique).Args
	}
	if d.heard != nil {
		c.Line = func(_ time.Time, text string) { d.heard(text) }
	}
	if d.log != nil {
		c.Line = func(at time.Time, text string) { d.log.Add(at, fn.Name, l.name.Load().(string), logs.Line, text) }
	}
	began = time.Now()
	if l.process, err = proc.Start(c); err != nil {
		l.forget()
	}
	return began, err
}

// withPublish adds the address at which events are published to an environment, and fills it in where it is asked for.
func withPublish(env []string, base, mqtt string) []string {
	if base == "" {
		return env
	}
	if mqtt != "" {
		env = append(env, "PUBLISH_MQTT_URL="+mqtt)
	}
	for i := range env {
		env[i] = plan.FillPublish(env[i], func(source string) string { return base + "/" + source })
	}
	return append(env, "PUBLISH_URL="+base)
}

// place finds what the process is to listen on, and begins to look for a listener.
func (d *Runner) place(l *launched, fn *plan.Function) error {
	if !fn.Socket {
		port, err := proc.FreePort()
		if err != nil {
			return err
		}
		l.port, l.expected, l.address = port, proc.Expect(port), net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
		return nil
	}
	sockets, number, err := d.folder()
	if err != nil {
		return err
	}
	l.socket, l.expected = sockets.Expect(number)
	l.address = l.socket
	return nil
}

// folder returns the folder for sockets, and a number that no other in it has.
func (d *Runner) folder() (s *proc.Sockets, number int, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.sockets == nil {
		d.sockets, err = proc.NewSockets()
	}
	d.socketed++
	return d.sockets, d.socketed, err
}

// forget ends the looking for a listener.
func (l *launched) forget() {
	if l.expected != nil {
		l.expected.Forget()
	}
}

// giveBack releases what the process was given to listen on.
func (l *launched) giveBack() {
	proc.GiveBack(l.port)
	if l.socket != "" {
		_ = os.Remove(l.socket)
	}
	if l.loader != nil {
		l.loader.close()
	}
	l.gate.Close()
}

// command returns one of the function's commands for this process.
func (l *launched) command(fn *plan.Function, args []string, unique string) proc.Command {
	env := slices.Clone(fn.Env)
	p := ""
	if l.port > 0 {
		p = strconv.Itoa(l.port)
		env = append(env, "PORT="+p)
	}
	if l.socket != "" {
		env = append(env, "SOCKET="+l.socket)
	}
	if !slices.ContainsFunc(env, func(s string) bool { return strings.HasPrefix(s, "PYTHONUNBUFFERED=") }) {
		env = append(env, "PYTHONUNBUFFERED=1") // lines come when they are written, not when a buffer is full
	}
	args = proc.Expand(args, "port", p, "socket", l.socket, "instance", unique)
	if l.loader != nil {
		args = l.loader.arguments(args, fn)
		if fn.Handler.PassTrace {
			env = append(env, passTrace+"=1")
		}
	}
	return proc.Command{Args: args, Dir: fn.Dir, Env: env}
}

// passTrace is the variable that has a loader pass the trace context on.
const passTrace = "NIGHTDRILL_PASS_TRACE"

// unique returns a name that no other process of this machine's drills has.
func (d *Runner) unique(fn *plan.Function, number string) string {
	return fmt.Sprintf("%s-%s-%s", strings.ReplaceAll(fn.Name, "@", "-"), d.tag, number)
}

// spares are the processes of a function that were started ahead, are initialised,
// and are stopped in memory until one is needed.
type spares struct {
	list    []*spare
	coming  int // being started
	started int
	failed  bool // the last one did not start; no one is started ahead until one that was wanted does
}

type spare struct {
	launched
	version string
	unique  string
}

// park starts as many processes ahead as a function requests, with its present code;
// the lock is held. On the session it is not known yet at the beginning.
func (d *Runner) park(fn int32) {
	f, s := d.fns[fn].Function, &d.fns[fn].spares
	if f.Parked == 0 || !d.recorder.mayPark(fn) {
		return
	}
	d.dropOld(fn)
	for !d.over && !d.closing && !s.failed && len(s.list)+s.coming < f.Parked {
		s.coming++
		s.started++
		x := &spare{version: d.fns[fn].version, unique: d.unique(f, fmt.Sprintf("p%d", s.started))}
		name := fmt.Sprintf("%s parked-%d", f.Name, s.started)
		d.running.Add(1)
		go d.bringAhead(fn, f, x, name)
	}
}

// bringAhead starts a process, waits until it is ready, and stops it in memory.
func (d *Runner) bringAhead(fn int32, f *plan.Function, x *spare, name string) {
	defer d.running.Done()
	ctx, cancel := context.WithTimeout(d.life, f.StartTimeout)
	defer cancel()
	x.caller = &caller{d: d, fn: fn}
	_, err := d.launch(&x.launched, f, x.unique, name)
	if err == nil {
		_, _, err = x.awaitReady(ctx, f)
		x.forget()
	}
	if err == nil {
		err = x.process.Park()
	}
	d.mu.Lock()
	s := &d.fns[fn].spares
	s.coming--
	keep := err == nil && !d.closing && x.version == d.fns[fn].version
	if keep {
		s.list = append(s.list, x)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("not within %v", text.Duration(f.StartTimeout))
	}
	if s.failed = err != nil && !d.closing; s.failed {
		d.note(fmt.Sprintf("%s: a process that was started ahead was not ready: %v", f.Name, err))
	}
	d.signal()
	d.mu.Unlock()
	if !keep {
		d.dismiss(x)
	}
}

// takeSpare returns a parked process of the function's present code, or nil; the
// lock is held.
func (d *Runner) takeSpare(fn int32) (x *spare) {
	d.dropOld(fn)
	s := &d.fns[fn].spares
	if len(s.list) > 0 {
		x, s.list = s.list[0], s.list[1:]
	}
	return x
}

// dropOld dismisses parked processes of older code, and those that were killed while
// they stood; the lock is held.
func (d *Runner) dropOld(fn int32) {
	s := &d.fns[fn].spares
	s.list = slices.DeleteFunc(s.list, func(y *spare) bool {
		select {
		case <-y.process.Done(): // it was killed while it stood
			go d.dismiss(y)
			return true
		default:
		}
		if y.version != d.fns[fn].version {
			go d.dismiss(y)
			return true
		}
		return false
	})
}

// dismiss ends a parked process.
func (d *Runner) dismiss(x *spare) {
	if x.process != nil {
		x.process.Kill()
		<-x.process.Done()
		x.process.HangUp()
	}
	x.giveBack()
}

// dismissAll ends all of them; the run is over.
func (d *Runner) dismissAll() {
	d.mu.Lock()
	var all []*spare
	for i := range d.fns {
		all = append(all, d.fns[i].spares.list...)
		d.fns[i].spares.list = nil
	}
	d.mu.Unlock()
	var wg sync.WaitGroup
	for _, x := range all {
		wg.Go(func() { d.dismiss(x) })
	}
	wg.Wait()
}

// standReady waits until every function has its parked processes.
func (d *Runner) standReady(ctx context.Context) {
	d.await(ctx, func() bool {
		for i := range d.fns {
			if d.fns[i].spares.coming > 0 {
				return false
			}
		}
		return true
	})
}

// boundsOf returns what an instance may use; what it does use is counted in any case.
func boundsOf(fn *plan.Function) proc.Bounds {
	return proc.Bounds{Memory: fn.Memory, CPU: fn.CPU, Meter: true}
}
