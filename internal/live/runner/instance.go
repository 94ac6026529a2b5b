package runner

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/transport"
)

// instance is one process and its slots.
type instance struct {
	d      *Runner
	id     int32
	fn     *plan.Function
	ctx    context.Context // ends when the instance is to stop
	cancel context.CancelFunc
	slots  []*slot
	launched
	proc      *proc.Process // nil until it runs; set with the lock held
	launching sync.Mutex    // of a process for one invocation: while it is being started
	over      bool          // no process will be started any more
	unique    string        // its name on this machine
	name      string        // such as quote-3
	version   string        // of the code
	parked    bool          // it had been started ahead
	sampled   time.Time
	carrier   transport.Carrier // of an instance that has one for all of its life
	listened  []netip.AddrPort  // where it did listen, of one that was never ready
	stopping  bool              // the engine said Stop
	ready     bool
}

// record returns the instance's entry in the records; the lock is held.
func (in *instance) record() *record.Instance { return &in.d.records[in.id] }

// start begins an instance; the lock is held.
func (d *Runner) start(f *engine.Effect) {
	for int(f.Instance) > len(d.instances) {
		// the engine planned instances that it then did not need
		d.instances = append(d.instances, nil)
		d.records = append(d.records, record.Instance{ID: int32(len(d.records)), Function: -1})
	}
	in := &instance{d: d, id: f.Instance, fn: d.fns[f.Function].Function, version: d.fns[f.Function].version}
	in.name = fmt.Sprintf("%s-%d", in.fn.Name, f.Number)
	in.ctx, in.cancel = context.WithCancel(context.Background())
	rec := record.Instance{ID: f.Instance, Function: f.Function, Number: f.Number, Spawned: f.At, Version: f.Version,
		Cause: f.Cause, After: f.Reason}
	if int(f.Instance) < len(d.instances) {
		d.instances[f.Instance], d.records[f.Instance] = in, rec
	} else {
		d.instances, d.records = append(d.instances, in), append(d.records, rec)
	}
	d.alive = append(d.alive, in)
	d.running.Add(1)
	go in.live()
}

// live is the instance's life, from its start until its process is gone.
func (in *instance) live() {
	defer in.d.running.Done()
	defer in.cancel()
	switch in.fn.Transport {
	case plan.Attach:
		in.attach()
		return
	case plan.OneShot:
		in.single()
		return
	}
	if err := in.spawn(); err != nil {
		in.gone(Trouble{Text: "does not start: " + err.Error()}, "not started")
		return
	}
	readyAt, within, err := time.Now(), time.Duration(0), error(nil)
	if in.parked {
		in.say(logs.Started, fmt.Sprintf("resumed as process %d, which had been started ahead", in.proc.PID))
	} else {
		in.say(logs.Started, fmt.Sprintf("started as process %d", in.proc.PID))
		readyAt, within, err = in.awaitReady(in.ctx, in.fn)
		in.forget()
	}
	if err == nil {
		in.d.mu.Lock()
		in.ready = true
		r := in.record()
		r.Ready, r.Within = in.d.at(readyAt), within
		r.Exec = min(r.Exec, r.Ready) // on a busy machine we may hear of the exec after the port was seen
		if in.loader != nil && !in.parked {
			r.Loader, r.Import = in.loader.hello.Loader, in.loader.hello.Load
		}
		took := r.Ready.Sub(r.Spawned)
		in.d.fns[r.Function].spares.failed = false
		in.d.mu.Unlock()
		words := fmt.Sprintf("ready after %v", text.Measured(took))
		if in.loader != nil && !in.parked {
			words += fmt.Sprintf(", %v of it to load the handler", text.Measured(in.loader.hello.Load))
		}
		in.say(logs.Ready, words)
		if in.fn.Transport == plan.Lines {
			lines := transport.NewLines(in.proc.In, in.proc.Out, func(line string) {
				in.say(logs.Line, "(standard output) "+text.Harmless(strings.TrimRight(line, "\r\n")))
			}, in.proc.Kill)
			in.carrier = lines
		}
		in.open()
		in.measureReady()
	} else if in.fn.Transport == plan.Lines {
		in.proc.In.Close()
	}
	in.proc.Gone()
	how := in.proc.How()
	why := Trouble{Lines: in.proc.Output.Last(troubleLines)}
	var unloaded *loadError
	switch {
	case errors.As(err, &unloaded):
		why.Text = fmt.Sprintf("does not start: the handler %s:%s cannot be loaded: %v", in.fn.Handler.File,
			in.fn.Handler.Name, unloaded)
	case errors.Is(err, proc.ErrEnded):
		why.Text = "does not start: it " + how + " before it was ready" + in.endedWell(how) + in.lastWords()
	case err == nil:
		why.Text = "crashed: it " + how + in.lastWords()
	default:
		why.Text = fmt.Sprintf("was not ready within %v: %s%s", text.Duration(in.fn.StartTimeout), in.missing(),
			in.lastWords())
	}
	in.proc.Output.Forget()
	in.gone(why, how)
}

// endedWell is a hint for a function that ends by itself, and without an error, when an HTTP
// server is wanted of it; "" for others.
func (in *instance) endedWell(how string) string {
	if how != "exited with code 0" || in.fn.Transport != plan.HTTPTransport {
		return ""
	}
	return ", as a program does that serves no HTTP (does it read events from standard input? transport: lines; one " +
		"event and end? transport: oneshot)"
}

// measureReady notes what the instance took of the processors until it was ready, in a drill: once what waits for it
// has been sent, so that nothing waits for that.
func (in *instance) measureReady() {
	if in.d.machine == nil {
		return
	}
	used, waited := in.proc.Computed()
	in.d.mu.Lock()
	defer in.d.mu.Unlock()
	if r := in.record(); r.Stopped == 0 {
		r.ReadyCPU, r.ReadyWait = used, waited
	}
}

// measureWait notes for how long the instance waited for a processor in all, in a drill, while its threads are there.
func (in *instance) measureWait(p *proc.Process) {
	if in.d.machine == nil {
		return
	}
	_, waited := p.Computed()
	in.d.mu.Lock()
	defer in.d.mu.Unlock()
	if r := in.record(); r.Stopped == 0 {
		r.Wait = max(r.ReadyWait, waited)
	}
}

// open starts the slots and tells the engine that the instance is ready.
func (in *instance) open() {
	in.d.mu.Lock()
	stopping := in.stopping
	in.d.mu.Unlock()
	if stopping {
		return
	}
	in.d.step(engine.Input{Kind: engine.Ready, Instance: in.id}, nil)
}

// attach takes up a function that was started elsewhere, and leaves it when
// the engine says so. Its process is not ours.
func (in *instance) attach() {
	in.address = in.fn.Address
	dialer := net.Dialer{Timeout: 2 * time.Second}
	conn, err := dialer.DialContext(in.ctx, "tcp", in.address)
	if err != nil {
		in.gone(Trouble{Text: fmt.Sprintf("not found: nothing answers at %s; start it first (transport: attach, "+
			"Night Drill does not start it)", in.address)}, "not found")
		return
	}
	conn.Close()
	in.d.mu.Lock()
	in.ready = true
	r := in.record()
	r.Ready, r.Exec = r.Spawned+1, r.Spawned
	in.d.mu.Unlock()
	in.say(logs.Ready, "attached to "+in.address)
	in.open()
	<-in.ctx.Done()
	in.gone(Trouble{}, "detached")
}

// say enters a line into the log.
func (in *instance) say(kind logs.Kind, text string) {
	if in.d.log != nil {
		in.d.log.Add(time.Now(), in.fn.Name, in.name, kind, text)
	}
}

func (in *instance) missing() string {
	if in.loader != nil {
		return fmt.Sprintf("the handler %s:%s was still being loaded (an await, or work, at the top level of its "+
			"module that does not end)", in.fn.Handler.File, in.fn.Handler.Name)
	}
	switch in.fn.Ready.By {
	case plan.ReadyHTTP:
		return fmt.Sprintf("GET %s did not answer 2xx on the port that it was given", in.fn.Ready.Path)
	case plan.ReadyLine:
		return fmt.Sprintf("no line of its output matched %q", in.fn.Ready.Line)
	}
	if in.socket != "" {
		return fmt.Sprintf("it did not listen on the Unix socket that it was given, %s (environment variable SOCKET, "+
			"or {socket} in start)", in.socket)
	}
	text := fmt.Sprintf("it did not listen on the port that it was given, 127.0.0.1:%d (environment variable PORT, "+
		"or {port} in start)", in.port)
	if len(in.listened) > 0 {
		text += fmt.Sprintf(", but on %v", in.listened)
	}
	return text
}

// lastWords returns the end of the output, for messages.
func (in *instance) lastWords() string {
	for _, line := range slices.Backward(in.proc.Output.Last(20)) {
		if line = strings.TrimSpace(line); line != "" {
			if r := []rune(line); len(r) > 160 {
				line = string(r[:160]) + "…"
			}
			return "; its last line: " + line
		}
	}
	return "; no output"
}

// spawn starts the process, or takes one that was started ahead.
func (in *instance) spawn() error {
	d := in.d
	d.mu.Lock()
	fn := in.record().Function
	x := d.takeSpare(fn)
	d.mu.Unlock()
	if x != nil {
		return in.resume(x)
	}
	in.unique = d.unique(in.fn, strconv.Itoa(int(in.id)))
	in.caller = newCaller(in, fn)
	began, err := d.launch(&in.launched, in.fn, in.unique, in.name)
	return in.runs(began, err)
}

// runs enters that the process runs.
func (in *instance) runs(began time.Time, err error) error {
	d := in.d
	d.mu.Lock()
	defer d.mu.Unlock()
	r := in.record()
	r.Spawned = d.at(began)
	if err != nil {
		return err
	}
	in.proc = in.process
	r.Spawned, r.Exec, r.PID = d.at(in.proc.Began), d.at(in.proc.Runs), in.proc.PID
	if in.stopping {
		in.proc.Stop(grace)
	}
	return nil
}

// resume continues a process that was started ahead and stopped.
func (in *instance) resume(x *spare) error {
	d := in.d
	in.unique = x.unique
	in.port, in.socket, in.address, in.loader, in.parked = x.port, x.socket, x.address, x.loader, true
	in.caller, in.gate = x.caller, x.gate
	in.caller.in.Store(in)
	x.name.Store(in.name)
	began := time.Now()
	err := x.process.Resume()
	d.mu.Lock()
	defer d.mu.Unlock()
	in.proc = x.process
	r := in.record()
	r.Spawned, r.Exec, r.PID, r.Parked = d.at(began), d.at(time.Now()), in.proc.PID, true
	if in.stopping {
		in.proc.Stop(grace)
	}
	return err
}

// stop ends the process; the engine wants it gone.
func (in *instance) stop() {
	in.d.mu.Lock()
	process, neverReady := in.proc, in.record().Reason == engine.NeverReady
	in.d.mu.Unlock()
	if process != nil && neverReady {
		in.listened = process.Listens() // before live says what is missing
	}
	in.cancel()
	if process == nil { // spawn sees to it otherwise
		return
	}
	proc.Sample([]*proc.Process{process})
	in.measure(process)
	in.measureWait(process)
	if in.fn.Stop != nil { // what runs may be elsewhere; the command that started it comes to its end by that
		ctx, done := context.WithTimeout(context.Background(), stopTimeout)
		defer done()
		if r := proc.Run(ctx, in.command(in.fn, in.fn.Stop, in.unique)); r.Err != nil {
			in.say(logs.Note, "stop: "+r.Err.Error())
		}
	}
	process.Stop(grace)
}

// gone notifies the engine that the process is gone, with the reason if it was not asked to stop.
func (in *instance) gone(why Trouble, how string) {
	in.giveBack()
	in.d.mu.Lock()
	process := in.proc
	in.d.mu.Unlock()
	used := proc.Usage{}
	if process != nil {
		used = process.Used()
	}
	if how != "not started" {
		in.say(logs.Stopped, in.ended(how))
	}
	in.d.mu.Lock()
	r := in.record()
	r.Stopped, r.Exit = in.d.now(), how
	r.Peak, r.CPU, r.Load = max(r.Peak, used.Peak), max(r.CPU, used.CPU), 0
	in.d.alive = slices.DeleteFunc(in.d.alive, func(x *instance) bool { return x == in })
	in.d.park(r.Function)
	kind := engine.Exited
	if !in.stopping {
		r.Reason = engine.Crashed
		if used.Killed {
			r.Reason = engine.OutOfMemory
			r.Exit = fmt.Sprintf("killed by the system, since it used more than its memory of %s",
				sizeText(in.fn.Memory))
			if why.Text = "ran out of memory: it was " + r.Exit; !in.ready {
				why.Text = "does not start: it was " + r.Exit
			}
		}
		if !in.ready {
			kind = engine.StartFailed
		}
	}
	fn := &in.d.fns[r.Function]
	fn.unready = fn.unready || !in.ready || !in.d.opened && !in.stopping
	if !in.stopping || r.Reason == engine.NeverReady {
		if r.Reason == engine.NeverReady {
			in.d.fns[r.Function].unexplained--
		}
		why.Version, why.Started = in.version, in.ready
		in.d.fail(r.Function, why)
	}
	in.d.mu.Unlock()
	in.d.step(engine.Input{Kind: kind, Instance: in.id}, nil)
	for _, s := range in.slots {
		close(s.jobs)
	}
}

// ended returns how the instance ended; of what Night Drill ended itself, with the reason.
func (in *instance) ended(how string) string {
	in.d.mu.Lock()
	stopping, reason := in.stopping, in.record().Reason
	in.d.mu.Unlock()
	switch {
	case !stopping || in.fn.Transport == plan.OneShot || in.fn.Transport == plan.Attach:
		return how
	case strings.HasPrefix(how, "killed by signal 9"):
		return fmt.Sprintf("stopped: %v; killed after %v, as it did not end on SIGTERM", reason, text.Duration(grace))
	case strings.HasPrefix(how, "exited with code") && how != "exited with code 0":
		return fmt.Sprintf("stopped: %v; %s", reason, how)
	}
	return fmt.Sprintf("stopped: %v", reason)
}

// sizeText writes a size in MiB or GiB.
func sizeText(n int64) string {
	if n >= 1<<30 {
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}

// single is the life of an instance that has a process for one invocation, which
// is started with it: there is nothing to wait for before.
func (in *instance) single() {
	in.d.mu.Lock()
	in.ready = true
	r := in.record()
	r.Ready, r.Exec = in.d.now(), r.Spawned
	in.d.mu.Unlock()
	in.carrier = &transport.OneShot{Keep: in.d.recorder.keepsReplies(), Start: in.startProgram}
	in.open()
	<-in.ctx.Done()
	how := "finished"
	in.launching.Lock() // what is being started is waited for
	in.over = true
	in.launching.Unlock()
	in.d.mu.Lock()
	process := in.proc
	in.d.mu.Unlock()
	if process != nil {
		process.Gone()
		how = process.How()
		process.Output.Forget()
	}
	in.gone(Trouble{}, how)
}

// startProgram starts the process of an invocation.
func (in *instance) startProgram(env []string) (transport.Program, error) {
	in.launching.Lock()
	defer in.launching.Unlock()
	if in.over {
		return transport.Program{}, errors.New("it was stopped before it was started")
	}
	in.unique = in.d.unique(in.fn, strconv.Itoa(int(in.id)))
	in.d.mu.Lock()
	l := &launched{caller: newCaller(in, in.record().Function)}
	in.d.mu.Unlock()
	began, err := in.d.launch(l, in.fn, in.unique, in.name, env...)
	if err != nil {
		in.d.mu.Lock()
		in.d.fail(in.record().Function, Trouble{Text: "does not start: " + err.Error(), Version: in.version})
		in.d.mu.Unlock()
		return transport.Program{}, err
	}
	in.d.mu.Lock()
	in.proc = l.process
	r := in.record()
	r.Spawned, r.Exec, r.PID = in.d.at(l.process.Began), in.d.at(l.process.Runs), l.process.PID
	r.Ready = r.Exec
	if in.stopping {
		l.process.Stop(grace)
	}
	in.d.mu.Unlock()
	in.say(logs.Started, fmt.Sprintf("started as process %d, %s after it was needed", l.process.PID,
		text.Measured(l.process.Runs.Sub(began))))
	return transport.Program{In: l.process.In, Out: l.process.Out, Ended: func() string {
		l.process.Gone()
		l.gate.Close()
		if how := l.process.How(); how != "exited with code 0" {
			return how
		}
		return ""
	}}, nil
}

// slot returns a slot of the instance, which begins to work when it is first wanted;
// the lock is held.
func (in *instance) slot(n int32) *slot {
	for len(in.slots) <= int(n) {
		s := &slot{in: in, number: int32(len(in.slots)), jobs: make(chan *job, 1)}
		in.slots = append(in.slots, s)
		go s.work()
	}
	return in.slots[n]
}
