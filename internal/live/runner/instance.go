package runner

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/event"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/logs"
	"nightdrill/internal/live/proc"
	"nightdrill/internal/live/transport"
)

// instance is one process and its slots.
type instance struct {
	d      *Driver
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
func (in *instance) record() *measure.Instance { return &in.d.rec.Instances[in.id] }

// start begins an instance; the lock is held.
func (d *Driver) start(f *engine.Effect) {
	for int(f.Instance) > len(d.instances) {
		// the engine planned instances that it then did not need
		d.instances = append(d.instances, nil)
		d.rec.Instances = append(d.rec.Instances, measure.Instance{ID: int32(len(d.rec.Instances)), Function: -1})
	}
	in := &instance{d: d, id: f.Instance, fn: d.fns[f.Function], version: d.versions[f.Function]}
	in.name = fmt.Sprintf("%s-%d", in.fn.Name, f.Number)
	in.ctx, in.cancel = context.WithCancel(context.Background())
	rec := measure.Instance{ID: f.Instance, Function: f.Function, Number: f.Number, Spawned: f.At, Version: f.Version, Cause: f.Cause, After: f.Reason}
	if int(f.Instance) < len(d.instances) {
		d.instances[f.Instance], d.rec.Instances[f.Instance] = in, rec
	} else {
		d.instances, d.rec.Instances = append(d.instances, in), append(d.rec.Instances, rec)
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
		readyAt, within, err = in.proc.WaitReady(in.ctx, in.fn.Ready, in.expected)
		in.forget()
	}
	if err == nil {
		in.d.mu.Lock()
		in.ready = true
		r := in.record()
		r.Ready, r.Within = in.d.at(readyAt), within
		r.Exec = min(r.Exec, r.Ready) // on a busy machine we may hear of the exec after the port was seen
		took := r.Ready.Sub(r.Spawned)
		in.d.spares[r.Function].failed = false
		in.d.mu.Unlock()
		in.say(logs.Ready, fmt.Sprintf("ready after %v", took.Round(100*time.Microsecond)))
		if in.fn.Transport == plan.Lines {
			lines := transport.NewLines(in.proc.In, in.proc.Out, func(text string) {
				in.say(logs.Line, "(standard output) "+proc.Harmless(strings.TrimRight(text, "\r\n")))
			}, in.proc.Kill)
			in.carrier = lines
		}
		in.open()
	} else if in.fn.Transport == plan.Lines {
		in.proc.In.Close()
	}
	in.proc.Gone()
	how := in.proc.How()
	why := Trouble{Lines: in.proc.Output.Last(troubleLines)}
	switch {
	case errors.Is(err, proc.ErrEnded):
		why.Text = "does not start: it " + how + " before it was ready" + in.endedWell(how) + in.lastWords()
	case err == nil:
		why.Text = "crashed: it " + how + in.lastWords()
	default:
		why.Text = fmt.Sprintf("was not ready within %v: %s%s", in.fn.StartTimeout, in.missing(), in.lastWords())
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

// attach takes up a function that was started elsewhere, and lets go of it when
// the engine says so. Its process is not ours.
func (in *instance) attach() {
	in.address = in.fn.Address
	dialer := net.Dialer{Timeout: 2 * time.Second}
	conn, err := dialer.DialContext(in.ctx, "tcp", in.address)
	if err != nil {
		in.gone(Trouble{Text: fmt.Sprintf("not found: nothing answers at %s; start it first (transport: attach, Night Drill does not start it)", in.address)}, "not found")
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
	switch in.fn.Ready.By {
	case plan.ReadyHTTP:
		return fmt.Sprintf("GET %s did not answer 2xx on the port that it was given", in.fn.Ready.Path)
	case plan.ReadyLine:
		return fmt.Sprintf("no line of its output matched %q", in.fn.Ready.Line)
	}
	if in.socket != "" {
		return fmt.Sprintf("it did not listen on the Unix socket that it was given, %s (environment variable SOCKET, or {socket} in start)", in.socket)
	}
	text := fmt.Sprintf("it did not listen on the port that it was given, 127.0.0.1:%d (environment variable PORT, or {port} in start)", in.port)
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
	in.port, in.socket, in.address, in.parked = x.port, x.socket, x.address, true
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
	if in.fn.Stop != nil { // what runs may be elsewhere; the command that started it comes to its end by that
		ctx, done := context.WithTimeout(context.Background(), stopTimeout)
		defer done()
		if r := proc.Run(ctx, in.command(in.fn, in.fn.Stop, in.unique)); r.Err != nil {
			in.say(logs.Note, "stop: "+r.Err.Error())
		}
	}
	process.Stop(grace)
}

// gone tells the engine that the process is gone, with the reason if it was not asked to stop.
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
			r.Exit = fmt.Sprintf("killed by the system, since it used more than its memory of %s", sizeText(in.fn.Memory))
			if why.Text = "ran out of memory: it was " + r.Exit; !in.ready {
				why.Text = "does not start: it was " + r.Exit
			}
		}
		if !in.ready {
			kind = engine.StartFailed
		}
	}
	in.d.unready[r.Function] = in.d.unready[r.Function] || !in.ready || !in.d.opened && !in.stopping
	if !in.stopping || r.Reason == engine.NeverReady {
		if r.Reason == engine.NeverReady {
			in.d.unexplainedStarts[r.Function]--
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
		return fmt.Sprintf("stopped: %v; killed after %v, as it did not end on SIGTERM", reason, grace)
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
	in.carrier = &transport.OneShot{Keep: in.keep(), Start: in.startProgram}
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
	l := &launched{}
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
	in.say(logs.Started, fmt.Sprintf("started as process %d, %s after it was needed", l.process.PID, l.process.Runs.Sub(began).Round(100*time.Microsecond)))
	return transport.Program{In: l.process.In, Out: l.process.Out, Ended: func() string {
		l.process.Gone()
		if how := l.process.How(); how != "exited with code 0" {
			return how
		}
		return ""
	}}, nil
}

// keep returns how much of a reply is kept.
func (in *instance) keep() int {
	if in.d.traces != nil || in.d.expecting {
		return transport.ReplyLimit // it is being read, or saved
	}
	return transport.Kept
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

// slot is room for one invocation: one connection, one goroutine.
type slot struct {
	in     *instance
	number int32
	jobs   chan *job
	cur    measure.Invocation // what it carries, while open
	open   bool
	tries  []*Attempt // of a standing desk: what it carries
	// suspects are the invocations, by their IDs, since the connection was last known to hold
	// no reply that no one had asked for.
	suspects []uint64
}

// mostSuspects bounds a slot's suspects.
const mostSuspects = 1000

// job is one invocation to be made.
type job struct {
	invocation uint64
	event      int64 // the first of the batch
	message    transport.Message
	late       func(context.Context) transport.Message // makes the message when it is about to be sent; nil where it is made
	trace      string
	tries      []*Attempt // of a standing desk
	ids        []string   // of a batch's events, in order
	subject    string     // of the first
	lose       bool       // the acknowledgement is to be lost, if there is one
	payload    *payload.Payload
	expect     *payload.Expect // of the answer; nil for nothing
}

// send returns an invocation to its slot; the lock is held.
func (d *Driver) send(f *engine.Effect, self *slot) *job {
	in := d.instances[f.Instance]
	sl := in.slot(f.Slot)
	sl.open = true
	sl.cur = measure.Invocation{ID: f.Invocation, Assigned: f.At, Function: f.Function, Instance: f.Instance, Slot: f.Slot,
		Source: f.Source, Wire: f.Wire, Batch: f.N, Class: f.Class}
	if f.Class == engine.Cold {
		in.record().Wanted = true
	}
	j := d.build(f, in.fn)
	if d.traces != nil {
		sl.tries = d.tries(f, in)
		j.tries = sl.tries
	}
	if sl == self {
		return j
	}
	sl.jobs <- j // a slot gets one at a time, so there is room
	return nil
}

// build makes the request of an invocation.
func (d *Driver) build(f *engine.Effect, fn *plan.Function) *job {
	ids := d.fx.Events[f.First : f.First+f.N]
	j := &job{invocation: f.Invocation, event: ids[0], trace: transport.Traceparent(d.trace, ids[0], f.Invocation)}
	first, _ := d.payloadOf(ids[0])
	if first.Event != nil {
		j.subject = first.Event.Subject
	}
	for _, id := range ids {
		j.lose = j.lose || d.traces == nil && d.events[id].lose
	}
	if d.traces == nil && len(ids) == 1 {
		j.payload, j.expect = first, d.expects[d.rec.Arrivals[ids[0]].Payload]
	}
	if r := first.Request; r != nil && d.p.Sources[f.Source].Kind == plan.HTTP {
		j.compose(d.life, fn, r, nil, false)
		return j
	}
	events := make([]*event.Event, len(ids))
	for i, id := range ids {
		p, round := d.payloadOf(id)
		events[i] = p.Event
		if round > 0 {
			// a set that is used again gives new events, not the same ones twice
			again := *events[i]
			again.ID = fmt.Sprintf("%s~%d", again.ID, round+1)
			events[i] = &again
		}
		if of, last, ok := d.deadLetter(id); ok {
			events[i] = withReason(events[i], of, last)
		}
		j.ids = append(j.ids, events[i].ID)
	}
	j.compose(d.life, fn, nil, events, d.p.Sources[f.Source].BatchMax > 1)
	return j
}

// compose makes the message of an invocation: at once, or, by a template of the user's, when
// it is about to be sent, since that may take as long as it likes.
func (j *job) compose(ctx context.Context, fn *plan.Function, r *event.Request, events []*event.Event, batch bool) {
	if transport.Shaped(fn) {
		j.late = func(ctx context.Context) transport.Message { return transport.Build(ctx, fn, r, events, batch) }
		return
	}
	j.message = transport.Build(ctx, fn, r, events, batch)
}

// deadLetter reports whether an event is a dead letter, of which source, and how
// its last attempt there ended.
func (d *Driver) deadLetter(event int64) (of string, last attempt, ok bool) {
	if d.traces != nil {
		t := d.traces[event]
		return t.deadOf, t.last, t.deadOf != ""
	}
	a := &d.rec.Arrivals[event]
	if a.Origin != engine.FromDeadLetter {
		return "", attempt{}, false
	}
	return d.p.Sources[d.rec.Arrivals[a.From].Source].Name, d.events[event].last, true
}

// withReason returns a dead letter with attributes that say where it comes from and
// why it was given up.
func withReason(e *event.Event, of string, last attempt) *event.Event {
	c := *e
	c.Extensions = append(slices.Clone(c.Extensions), event.Field{Name: "deadletterof", Value: of},
		event.Field{Name: "deadletterreason", Value: last.result.String()}, event.Field{Name: "deadletterattempts", Value: strconv.Itoa(int(last.n))})
	if last.status > 0 {
		c.Extensions = append(c.Extensions, event.Field{Name: "deadletterstatus", Value: strconv.Itoa(int(last.status))})
	}
	return &c
}

// payloadOf returns what an event carries, and how often its set had been used up.
func (d *Driver) payloadOf(event int64) (p *payload.Payload, round int32) {
	if d.traces != nil {
		return d.traces[event].Event.Payload, 0
	}
	a := &d.rec.Arrivals[event]
	return d.payloads[a.Payload], a.Round
}

// work carries out the slot's invocations until its instance is gone.
func (s *slot) work() {
	conn := s.in.carrier
	if conn == nil {
		c := transport.New(s.in.address)
		c.Keep, c.Fresh = s.in.keep(), s.in.fn.Fresh
		conn = c
	}
	defer conn.Close()
	for j := range s.jobs {
		for j != nil {
			if j.late != nil {
				j.message = j.late(s.in.ctx)
			}
			reply := conn.Do(s.in.ctx, &j.message, j.trace)
			j = s.report(j, &reply)
		}
	}
}

// crashWait is how long a broken connection waits for the news that the
// process is gone, so that a crash is called one.
const crashWait = 50 * time.Millisecond

// report hands a reply to the engine, and returns the slot's next job if there
// is one at once.
func (s *slot) report(j *job, r *transport.Reply) *job {
	in := engine.Input{Kind: engine.Answered, Instance: s.in.id, Slot: s.number, Invocation: j.invocation, Status: int32(r.Status), RetryAfter: r.RetryAfter}
	if r.Result != engine.OK {
		in.Kind, in.Result = engine.Broken, r.Result
	}
	if r.Result == engine.Unreachable || r.Result == engine.Disconnected { // the process may have ended
		wait := time.NewTimer(crashWait)
		defer wait.Stop()
		var ended <-chan struct{} // never, of a process that is not ours
		if s.in.proc != nil && s.in.fn.Transport != plan.OneShot {
			ended = s.in.proc.Exited()
		}
		select {
		case <-ended:
			return nil // the engine hears of the exit
		case <-wait.C:
		}
	}
	if r.Result == engine.OK && len(j.ids) > 0 && r.Status == 200 {
		var known bool
		if in.Retry, known = retries(r.Body, j.ids); !known {
			in.Kind, in.Result = engine.Broken, engine.UnknownRetry
		}
	}
	why := ""
	if j.expect != nil && r.Result == engine.OK {
		body, _ := r.Plain()
		why = j.expect.First(j.payload, r.Status, body)
	}
	d, key := s.in.d, r.Key()
	sent := s.onward(j, r)
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case r.Before, r.Surplus:
		d.surplus(s)
		s.suspects = s.suspects[:0]
	case r.Quiet:
		s.suspects = s.suspects[:0]
	}
	if !r.Surplus && len(s.suspects) < mostSuspects {
		s.suspects = append(s.suspects, j.invocation)
	}
	if s.open && s.cur.ID == j.invocation {
		if !r.Sent.IsZero() {
			s.cur.Sent = d.at(r.Sent)
		}
		if !r.Received.IsZero() {
			s.cur.Received = d.at(r.Received)
		}
		s.cur.Status = int32(r.Status)
		if why != "" {
			s.cur.Unexpected = true
			if d.unexpected++; d.unexpected == 1 {
				p := &d.rec.Payloads[d.rec.Arrivals[j.event].Payload]
				d.rec.Notes = append(d.rec.Notes, fmt.Sprintf("the first unexpected reply was to %s#%d: %s", p.Set, p.N, why))
			}
		}
		if d.traces == nil {
			d.keepReply(&s.cur, r, key)
		}
		result := r.Result
		if in.Kind == engine.Broken {
			result = in.Result
		}
		s.settle(d.at(r.Done), result)
	}
	if len(j.tries) > 0 {
		kept := *r
		for _, t := range j.tries {
			t.Reply = &kept
		}
	}
	if d.traces == nil && r.RetryAfter > 0 && (r.Status == 429 || r.Status == 503) { // its caller comes again when it is told to
		d.events[j.event].pause = min(r.RetryAfter, mostRetryAfter)
	}
	if in.Kind == engine.Answered {
		d.sendOn(&in, s.in.record().Function, j.event, sent)
		in.AckLost = j.lose
	}
	defer func() { d.onward = nil }() // what the engine made nothing of
	return d.stepLocked(in, s)
}

// surplus notes that a reply of the slot was followed by bytes that no request asked for.
// Replies since the connection was last known to be quiet may have been those of other
// requests: they had been taken for good ones, and count as unexpected. The lock is held.
func (d *Driver) surplus(s *slot) {
	left := len(s.suspects)
	for i := len(d.rec.Invocations) - 1; i >= 0 && left > 0; i-- {
		v := &d.rec.Invocations[i]
		if !slices.Contains(s.suspects, v.ID) {
			continue
		}
		if left--; !v.Unexpected {
			v.Unexpected = true
			d.unexpected++
		}
	}
	d.fail(s.in.record().Function,
		Trouble{Text: "sent bytes after a reply that no request asked for; the connection was closed, and its replies " +
			"before that count as unexpected",
			Version: s.in.version, Started: true})
}

// settle records the invocation as over; the lock is held.
func (s *slot) settle(at clock.Time, result engine.Result) {
	if s.open {
		s.open = false
		s.cur.Done, s.cur.Result = at, result
		if s.in.d.traces != nil {
			for _, t := range s.tries {
				t.Invocation = s.cur
			}
			return
		}
		s.in.d.rec.Invocations = append(s.in.d.rec.Invocations, s.cur)
	}
}

// retries reads a batch's reply {"retry": ["<event id>", …]}: the positions of
// those events. known is false when it names an event that was not sent.
func retries(body []byte, ids []string) (positions []int32, known bool) {
	var reply struct {
		Retry []string `json:"retry"`
	}
	if json.Unmarshal(body, &reply) != nil {
		return nil, true // any other reply is one that retries nothing
	}
	for _, id := range reply.Retry {
		i := slices.Index(ids, id)
		if i < 0 {
			return nil, false
		}
		positions = append(positions, int32(i))
	}
	return positions, true
}
