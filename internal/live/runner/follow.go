package runner

import (
	"context"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/transport"
)

// Event is one event to be sent.
type Event struct {
	Source  int
	Payload *payload.Payload
	Routes  uint64 // the wires of the source that take it, as bits
	Cold    bool   // the instances of the functions that it reaches are stopped first
	Name    string // of its payload, the same each time; "" for none

	published   bool
	publishedBy *Trace // the event whose invocation published it; nil where that is not known
}

// Trace is what became of one event: every attempt, and every delivery's end.
type Trace struct {
	Event
	Number   int64
	Arrived  clock.Time
	At       time.Time // the same
	Attempts []*Attempt
	Ended    []record.Delivery
	Made     []*Trace // dead letters that became events, and replies that were sent on
	Origin   engine.Origin
	Steps    int    // of the chain that led to it
	Left     int    // deliveries without an outcome
	deadOf   string // the source that gave it up; "" for none
	last     attempt
	Coming   int // events that its functions published and that were not handed in yet
	whole    *whole
	unclear  int // attempts of which it is not known yet why they failed
	done     chan struct{}
}

// lostStart is an attempt that was lost to an instance that was never ready. Why it
// was not is known once its process is gone.
type lostStart struct {
	t *Trace
	x *Attempt
}

// Attempt is one attempt.
type Attempt struct {
	Wire, N    int32
	Function   int32
	Instance   record.Instance
	Name       string // of the instance; "" when there was none
	Version    string // of the code
	Invocation record.Invocation
	Began      time.Time // when it was dispatched
	Reply      *transport.Reply
	Result     engine.Result
	Why        string // how it failed, in words
	Lines      []string
	Over       bool
	Beside     int    // others in flight on the instance when it was dispatched
	Calls      []Call // to upstreams
	Spans      []Span // that the function sent
	CallsLost  int    // calls beyond those that are kept
}

// whole is an event with all that was made of it.
type whole struct {
	open int // events of which not every delivery has its outcome
	done chan struct{}
}

// close notes that one of the events is over.
func (w *whole) close() {
	if w.open--; w.open == 0 {
		close(w.done)
	}
}

// Done is closed when every delivery has its outcome.
func (t *Trace) Done() <-chan struct{} { return t.done }

// Whole is closed when every delivery has its outcome, also of the events that
// were made of it: dead letters, and replies that were sent on.
func (t *Trace) Whole() <-chan struct{} { return t.whole.done }

// Follower runs functions for events that are fired one at a time, and follows each of them
// through all of its attempts.
type Follower struct {
	*Runner
	traces       map[int64]*Trace     // events that are in progress
	fired        int32                // how many were handed in
	firing       *Trace               // the one that is being handed in
	endedEvents  []int64              // those that ended in this step
	pendingCause []lostStart          // attempts that instances cost which were never ready
	traced       map[int64][]*Attempt // the attempts of the latest events, of functions that send spans
	tracedOrder  []int64
	spansMissed  record.SpansMissed
}

// Follow prepares a follower.
func Follow(p *plan.Expanded, c Config) *Follower {
	var limits []plan.Limits
	for i := range p.Functions {
		limits = append(limits, p.Functions[i].Limits)
	}
	f := &Follower{Runner: newRunner(c, &p.Project, limits, 0, 1), traces: map[int64]*Trace{},
		traced: map[int64][]*Attempt{}}
	f.recorder = f
	f.began, f.opened = time.Now(), true
	f.openSpans(c.Hosts)
	return f
}

// Run runs until the context ends and every process is gone.
func (d *Follower) Run(ctx context.Context) {
	defer d.prepare()()
	d.finish(ctx, d.startClock())
}

// Fire hands an event in; [Follower.Look] returns what happens to it.
func (d *Follower) Fire(s Event) *Trace {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fired++
	s.Routes = d.divide(s.Source, s.Routes, s.Payload, d.fired, 0)
	if s.Cold {
		for _, fn := range d.reached(s) {
			d.stepLocked(engine.Input{Kind: engine.Clear, Function: int32(fn)}, nil)
		}
	}
	t := &Trace{Event: s, At: time.Now(), done: make(chan struct{})}
	d.firing = t
	d.stepLocked(engine.Input{Kind: engine.Arrived, Source: int32(s.Source), Routes: s.Routes,
		Key: d.sorter.Key(s.Source, s.Payload), Delay: d.p.Sources[s.Source].DelayOf(s.Payload),
		Async: s.Payload.Async()}, nil)
	d.firing = nil
	return t
}

// reached returns the functions that an event reaches.
func (d *Follower) reached(s Event) (fns []int) {
	for w, wire := range d.p.Sources[s.Source].Wires {
		if s.Routes&(1<<w) != 0 && !slices.Contains(fns, wire.To) {
			fns = append(fns, wire.To)
		}
	}
	return fns
}

// Look copies what has become of an event so far.
func (d *Follower) Look(t *Trace) Trace {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.copyOf(t)
}

func (d *Follower) copyOf(t *Trace) Trace {
	c := *t
	c.Attempts = make([]*Attempt, len(t.Attempts))
	for i, x := range t.Attempts {
		y := *x
		y.Calls, y.Spans = slices.Clone(x.Calls), slices.Clone(x.Spans)
		c.Attempts[i] = &y
	}
	c.Ended = slices.Clone(t.Ended)
	c.Made = nil
	for _, m := range t.Made {
		made := d.copyOf(m)
		c.Made = append(c.Made, &made)
	}
	return c
}

// Renew sets a function's settings and its code a new version; its instances are
// replaced.
func (d *Follower) Renew(fn int, f *plan.Function, version string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fns[fn].Function, d.fns[fn].version, d.fns[fn].trouble = f, version, Trouble{}
	d.fns[fn].spares.failed = false
	d.park(int32(fn))
	d.stepLocked(engine.Input{Kind: engine.Replace, Function: int32(fn)}, nil)
}

// Hold keeps a function from timeouts and idle stops, or lets it go again.
func (d *Follower) Hold(fn int, held bool) {
	kind := engine.Release
	if held {
		kind = engine.Hold
	}
	d.step(engine.Input{Kind: kind, Function: int32(fn)}, nil)
}

// Trouble returns what last went wrong with a function since its code changed;
// the text is "" for nothing.
func (d *Follower) Trouble(fn int) Trouble {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.fns[fn].trouble
}

// Address returns where the newest ready instance of a function listens, or "".
func (d *Follower) Address(fn int) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, in := range slices.Backward(d.instances) {
		if in != nil && in.ready && !in.stopping && in.record().Function == int32(fn) && in.record().Stopped == 0 {
			return in.address
		}
	}
	return ""
}

// Version names the code that a function is started with now.
func (d *Follower) Version(fn int) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.fns[fn].version
}

// Name names the code of a function, before it is started for the first time.
func (d *Follower) Name(fn int, version string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fns[fn].version = version
}

// KeepWarm keeps instances of a function warm from now on, and waits until one is ready or failed
// to start, or the context ends.
func (d *Follower) KeepWarm(ctx context.Context, fn, n int) {
	d.mu.Lock()
	if l := d.eng.Limits(fn); l.KeepWarm < n {
		l.KeepWarm = n
		d.awaited, d.fns[fn].unready = true, false
		d.change(fn, "", engine.Input{Kind: engine.SetLimits, Function: int32(fn), Limits: l})
	}
	d.mu.Unlock()
	d.await(ctx, func() bool { return d.eng.Stats(fn).Ready > 0 || d.fns[fn].unready || d.closing })
}

// eventTaken implements recorder.
func (d *Follower) eventTaken(f *engine.Effect) {
	t := d.firing
	if f.Origin != engine.FromOutside {
		from := d.traces[f.From]
		// of a dead letter
		e := Event{Source: int(f.Source), Payload: from.Payload, Routes: 1<<len(d.p.Sources[f.Source].Wires) - 1}
		if f.Origin == engine.FromReply {
			x := d.nextChained()
			e.Payload, e.Routes = x.payload, d.chainedRoutes(int(f.Source), x.payload, f.From)
		}
		t = &Trace{Event: e, At: time.Now(), done: make(chan struct{}), Origin: f.Origin, Steps: from.Steps,
			whole: from.whole}
		if f.Origin == engine.FromDeadLetter {
			t.deadOf, t.last = d.p.Sources[from.Source].Name, from.last
		}
		if f.Origin == engine.FromReply {
			t.Steps++
		}
		from.Made = append(from.Made, t)
	} else if by := t.publishedBy; by != nil { // what it is part of is still open
		t.Origin, t.Steps, t.whole = engine.FromPublish, by.Steps+1, by.whole
		by.Made = append(by.Made, t)
	} else {
		t.whole = &whole{done: make(chan struct{})}
		if t.published {
			t.Origin = engine.FromPublish
		}
	}
	t.whole.open++
	t.Number, t.Arrived = f.Event, f.At
	for w := range d.p.Sources[f.Source].Wires {
		if t.Routes&(1<<w) != 0 {
			t.Left++
		}
	}
	t.Left = max(t.Left, 1)
	d.traces[f.Event] = t
}

// dispatched implements recorder: an attempt of each event of the batch begins.
func (d *Follower) dispatched(f *engine.Effect, s *slot, j *job) {
	in := s.in
	beside := -1
	for _, sl := range in.slots {
		if sl.open {
			beside++
		}
	}
	for _, id := range d.fx.Events[f.First : f.First+f.N] {
		t := d.traces[id]
		x := &Attempt{Wire: f.Wire, Function: f.Function, Name: in.name, Version: in.version, Instance: *in.record(),
			Began: d.began.Add(time.Duration(f.At)), Beside: beside,
			Invocation: s.cur}
		for _, earlier := range t.Attempts {
			if earlier.Wire == f.Wire {
				x.N = earlier.N
			}
		}
		x.N++
		t.Attempts = append(t.Attempts, x)
		j.tries = append(j.tries, x)
	}
	if s.in.fn.Spans {
		d.expectSpans(d.fx.Events[f.First], j.tries)
	}
	s.tries = j.tries
}

// attemptEnded implements recorder.
func (d *Follower) attemptEnded(f *engine.Effect) {
	t := d.traces[f.Event]
	t.last = attempt{f.Attempt, f.Status, f.Result}
	if f.Instance < 0 { // lost to a failed start
		x := &Attempt{Wire: f.Wire, N: f.Attempt, Function: f.Function, Began: time.Now(), Result: f.Result, Over: true}
		t.Attempts = append(t.Attempts, x)
		if d.fns[f.Function].unexplained > 0 {
			t.unclear++
			d.pendingCause = append(d.pendingCause, lostStart{t, x})
			return
		}
		why := d.fns[f.Function].trouble
		x.Why, x.Lines, x.Version = why.Text, why.Lines, why.Version
		return
	}
	d.cutOff(f)
	for _, x := range slices.Backward(t.Attempts) {
		if x.Wire != f.Wire || x.Over {
			continue
		}
		x.Over, x.Result = true, f.Result
		switch {
		case f.Result == engine.Crash:
			x.Why, x.Lines = d.fns[f.Function].trouble.Text, d.fns[f.Function].trouble.Lines
		case f.Result == engine.Timeout:
			x.Why = "did not reply within " + text.Duration(d.fns[f.Function].Timeout)
		case x.Reply != nil && x.Reply.Why != "":
			x.Why = x.Reply.Why
		}
		return
	}
}

// deliveryEnded implements recorder.
func (d *Follower) deliveryEnded(f *engine.Effect) {
	t := d.traces[f.Event]
	t.Ended = append(t.Ended, record.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At, Source: f.Source,
		Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
	if t.Left--; t.Left == 0 {
		if t.unclear == 0 {
			close(t.done)
		}
		// a dead letter is made of it in this step, if one is
		d.endedEvents = append(d.endedEvents, f.Event)
	}
}

// failed implements recorder: the attempts that the function's starts cost learn why they failed.
func (d *Follower) failed(fn int32) {
	why := d.fns[fn].trouble
	d.pendingCause = slices.DeleteFunc(d.pendingCause, func(p lostStart) bool {
		if p.x.Function != fn {
			return false
		}
		p.x.Why, p.x.Lines, p.x.Version = why.Text, why.Lines, why.Version
		if p.t.unclear--; p.t.unclear == 0 && p.t.Left == 0 {
			close(p.t.done)
		}
		return true
	})
}

// stepped implements recorder: events that have ended are freed.
func (d *Follower) stepped(clock.Time) {
	for _, id := range d.endedEvents {
		t := d.traces[id]
		t.whole.close()
		delete(d.traces, id)
	}
	d.endedEvents = d.endedEvents[:0]
}

// replied implements recorder.
func (d *Follower) replied(_ *slot, j *job, r *transport.Reply, _ uint64, _ string) {
	kept := *r
	for _, t := range j.tries {
		t.Reply = &kept
	}
}

// settled implements recorder.
func (d *Follower) settled(s *slot) {
	for _, t := range s.tries {
		t.Invocation = s.cur
	}
}

// payloadOf implements recorder.
func (d *Follower) payloadOf(event int64) (p *payload.Payload, round int32) {
	return d.traces[event].Payload, 0
}

// deadLetter implements recorder.
func (d *Follower) deadLetter(event int64) (of string, last attempt, ok bool) {
	t := d.traces[event]
	return t.deadOf, t.last, t.deadOf != ""
}

// chainSteps implements recorder.
func (d *Follower) chainSteps(event int64) int {
	if t := d.traces[event]; t != nil {
		return t.Steps
	}
	return 0
}

// mayPark implements recorder: at the beginning the code is not known yet.
func (d *Follower) mayPark(fn int32) bool { return d.fns[fn].version != "" }

// keepsReplies implements recorder: replies are read, and saved.
func (d *Follower) keepsReplies() int { return transport.ReplyLimit }

// What a follower has no use for.
func (d *Follower) chainedPayload(p *payload.Payload) (*payload.Payload, int32) { return p, 0 }
func (d *Follower) leaseExtended(int32)                                         {}
func (d *Follower) doubted(*slot, clock.Time)                                   {}
func (d *Follower) changed(int, string)                                         {}
func (d *Follower) handIn(clock.Time, *slot) *job                               { return nil }
func (d *Follower) nextDue(clock.Time) clock.Time                               { return clock.Never }

// Weight returns how many bytes of replies a track holds.
func (d *Follower) Weight(t *Trace) (n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return weight(t)
}

func weight(t *Trace) (n int) {
	n = len(t.Payload.Data())
	for _, x := range t.Attempts {
		if x.Reply != nil {
			n += len(x.Reply.Body)
		}
	}
	for _, m := range t.Made {
		n += weight(m)
	}
	return n
}

// Trim keeps the beginnings of what a track, which is over, and those that were made of it
// sent and were answered.
func (d *Follower) Trim(t *Trace, most int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	trim(t, most)
}

func trim(t *Trace, most int) {
	t.Payload = t.Payload.Short(most)
	for _, m := range t.Made {
		trim(m, most)
	}
	for _, x := range t.Attempts {
		if x.Reply != nil && len(x.Reply.Body) > most {
			short := *x.Reply
			short.Body = slices.Clone(short.Body[:most])
			x.Reply = &short
		}
	}
}

// Letter is an event of which a delivery failed for good, and that a queue or a stream can be asked for.
type Letter struct {
	Number  int64 // of the event
	Source  string
	Dead    string // the queue that has its dead letters; "" for none
	Payload *payload.Payload
}

// Letters lists those of a track and of what was made of it.
func (d *Follower) Letters(t *Trace) (out []Letter) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var walk func(t *Trace)
	walk = func(t *Trace) {
		for _, m := range t.Made {
			walk(m)
		}
		src := &d.p.Sources[t.Source]
		if !src.Kind.Published() && src.DeadLetter < 0 || !slices.ContainsFunc(t.Ended, func(e record.Delivery) bool {
			return e.Outcome == engine.DeadLettered || e.Outcome == engine.Failed
		}) {
			return
		}
		l := Letter{Number: t.Number, Source: src.Name, Payload: t.Payload}
		if src.DeadLetter >= 0 {
			l.Dead = d.p.Sources[src.DeadLetter].Name
		}
		out = append(out, l)
	}
	walk(t)
	return out
}

// NextOn returns the time at which a track's first attempt after another one was
// handed to the same instance, if there is one.
func (d *Follower) NextOn(t *Trace, after *Attempt) (at time.Time, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, x := range t.Attempts {
		if x.Name == after.Name && x.Began.After(after.Began) {
			return x.Began, true
		}
	}
	return at, false
}
