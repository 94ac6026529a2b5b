package runner

import (
	"slices"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/logs"
	"nightdrill/internal/live/transport"
)

// Trouble is what last went wrong with a function's process.
type Trouble struct {
	Text    string // what happened and what to do, to follow the function's name
	Lines   []string
	Version string // of the code that it happened to
	Started bool   // it had been ready
	At      time.Time
}

// Event is one event to be sent.
type Event struct {
	Source  int
	Payload *payload.Payload
	Routes  uint64 // the wires of the source that take it, as bits
	Cold    bool   // the instances of the functions that it reaches are stopped first
}

// Trace is what became of one event: every attempt, and every delivery's end.
type Trace struct {
	Event
	Number   int64
	Arrived  clock.Time
	At       time.Time // the same
	Attempts []*Attempt
	Ended    []measure.Delivery
	Made     []*Trace // dead letters that became events, and replies that were sent on
	Origin   engine.Origin
	Steps    int    // of the chain that led to it
	Left     int    // deliveries without an outcome
	deadOf   string // the source that gave it up; "" for none
	last     attempt
	whole    *whole
	unclear  int // attempts of which it is not known yet why they failed
	done     chan struct{}
}

// unexplained is an attempt that was lost to an instance that was never ready. Why it
// was not is known once its process is gone.
type unexplained struct {
	t *Trace
	x *Attempt
}

// Attempt is one attempt.
type Attempt struct {
	Wire, N    int32
	Function   int32
	Instance   measure.Instance
	Name       string // of the instance; "" when there was none
	Version    string // of the code
	Invocation measure.Invocation
	Began      time.Time // when it was dispatched
	Reply      *transport.Reply
	Result     engine.Result
	Why        string // how it failed, in words
	Lines      []string
	Over       bool
	Beside     int // others in flight on the instance when it was dispatched
}

// whole is an event with all that was made of it.
type whole struct {
	open int // events of which not every delivery has its outcome
	done chan struct{}
}

// Done is closed when every delivery has its outcome.
func (t *Trace) Done() <-chan struct{} { return t.done }

// Whole is closed when every delivery has its outcome, also of the events that
// were made of it: dead letters, and replies that were sent on.
func (t *Trace) Whole() <-chan struct{} { return t.whole.done }

// NewStanding prepares a standing desk.
func NewStanding(s *plan.Expanded, id string, log *logs.Log) *Driver {
	d := &plan.Drill{Name: "desk", Seed: 1}
	for i := range s.Functions {
		d.Limits = append(d.Limits, s.Functions[i].Limits)
	}
	r := New(&s.Project, d, id)
	r.traces, r.log = map[int64]*Trace{}, log
	r.began, r.opened = time.Now(), true
	return r
}

// Settings sets how a function is started, and which code it has. It is called before Run.
func (d *Driver) Settings(fn int, f plan.Function, version string) {
	d.fns[fn], d.versions[fn] = &f, version
}

// Log adds what the functions write to a log. It is called before Run.
func (d *Driver) Log(l *logs.Log) { d.log = l }

// Fire hands an event in. Look tells what happens to it.
func (d *Driver) Fire(s Event) *Trace {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s.Cold {
		for _, fn := range d.reached(s) {
			d.stepLocked(engine.Input{Kind: engine.Clear, Function: int32(fn)}, nil)
		}
	}
	t := &Trace{Event: s, At: time.Now(), done: make(chan struct{})}
	d.firing = t
	d.stepLocked(engine.Input{Kind: engine.Arrived, Source: int32(s.Source), Routes: s.Routes, Key: d.sorter.Key(s.Source, s.Payload), Delay: ownDelay(&d.p.Sources[s.Source], s.Payload), Async: s.Payload.Async()}, nil)
	d.firing = nil
	return t
}

// reached returns the functions that an event reaches.
func (d *Driver) reached(s Event) (fns []int) {
	for w, wire := range d.p.Sources[s.Source].Wires {
		if s.Routes&(1<<w) != 0 && !slices.Contains(fns, wire.To) {
			fns = append(fns, wire.To)
		}
	}
	return fns
}

// Look copies what has become of an event so far.
func (d *Driver) Look(t *Trace) Trace {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.copyOf(t)
}

func (d *Driver) copyOf(t *Trace) Trace {
	c := *t
	c.Attempts = make([]*Attempt, len(t.Attempts))
	for i, x := range t.Attempts {
		y := *x
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

// Renew returns a function other settings, and its code another version: its
// instances are replaced one by one.
func (d *Driver) Renew(fn int, f *plan.Function, version string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fns[fn], d.versions[fn], d.troubles[fn] = f, version, Trouble{}
	d.spares[fn].failed = false
	d.park(int32(fn))
	d.stepLocked(engine.Input{Kind: engine.Replace, Function: int32(fn)}, nil)
}

// Hold keeps a function from timeouts and idle stops, or lets it go again.
func (d *Driver) Hold(fn int, held bool) {
	kind := engine.Release
	if held {
		kind = engine.Hold
	}
	d.step(engine.Input{Kind: kind, Function: int32(fn)}, nil)
}

// Trouble returns what last went wrong with a function since its code changed;
// the text is "" for nothing.
func (d *Driver) Trouble(fn int) Trouble {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.troubles[fn]
}

// Address returns where the newest ready instance of a function listens, or "".
func (d *Driver) Address(fn int) string {
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
func (d *Driver) Version(fn int) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.versions[fn]
}

// track takes up an event that got its number.
func (d *Driver) track(f *engine.Effect) {
	t := d.firing
	if f.Origin != engine.FromOutside {
		from := d.traces[f.From]
		shot := Event{Source: int(f.Source), Payload: from.Payload, Routes: 1<<len(d.p.Sources[f.Source].Wires) - 1} // of a dead letter
		if f.Origin == engine.FromReply {
			x := d.nextOnward()
			shot.Payload, shot.Routes = x.payload, d.p.Routes(int(f.Source), x.payload)
		}
		t = &Trace{Event: shot, At: time.Now(), done: make(chan struct{}), Origin: f.Origin, Steps: from.Steps, whole: from.whole}
		if f.Origin == engine.FromDeadLetter {
			t.deadOf, t.last = d.p.Sources[from.Source].Name, from.last
		}
		if f.Origin == engine.FromReply {
			t.Steps++
		}
		from.Made = append(from.Made, t)
	} else {
		t.whole = &whole{done: make(chan struct{})}
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

// tries begins an attempt of each event of a batch.
func (d *Driver) tries(f *engine.Effect, in *instance) (out []*Attempt) {
	beside := -1
	for _, sl := range in.slots {
		if sl.open {
			beside++
		}
	}
	for _, id := range d.fx.Events[f.First : f.First+f.N] {
		t := d.traces[id]
		x := &Attempt{Wire: f.Wire, Function: f.Function, Name: in.name, Version: in.version, Instance: *in.record(), Began: d.began.Add(time.Duration(f.At)), Beside: beside,
			Invocation: in.slots[f.Slot].cur}
		for _, earlier := range t.Attempts {
			if earlier.Wire == f.Wire {
				x.N = earlier.N
			}
		}
		x.N++
		t.Attempts = append(t.Attempts, x)
		out = append(out, x)
	}
	return out
}

// tried ends an attempt.
func (d *Driver) tried(f *engine.Effect) {
	t := d.traces[f.Event]
	t.last = attempt{f.Attempt, f.Status, f.Result}
	if f.Instance < 0 { // lost to a failed start
		x := &Attempt{Wire: f.Wire, N: f.Attempt, Function: f.Function, Began: time.Now(), Result: f.Result, Over: true}
		t.Attempts = append(t.Attempts, x)
		if d.unexplainedStarts[f.Function] > 0 {
			t.unclear++
			d.pendingCause = append(d.pendingCause, unexplained{t, x})
			return
		}
		why := d.troubles[f.Function]
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
			x.Why, x.Lines = d.troubles[f.Function].Text, d.troubles[f.Function].Lines
		case f.Result == engine.Timeout:
			x.Why = "did not reply within " + d.fns[f.Function].Timeout.String()
		case x.Reply != nil && x.Reply.Why != "":
			x.Why = x.Reply.Why
		}
		return
	}
}

func (d *Driver) trackEnded(f *engine.Effect) {
	t := d.traces[f.Event]
	t.Ended = append(t.Ended, measure.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At, Source: f.Source, Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
	if t.Left--; t.Left == 0 {
		if t.unclear == 0 {
			close(t.done)
		}
		// a dead letter is made of it in this step, if one is
		d.endedEvents = append(d.endedEvents, f.Event)
	}
}

// explain tells the attempts that a function's starts cost why they failed.
func (d *Driver) explain(fn int32) {
	why := d.troubles[fn]
	d.pendingCause = slices.DeleteFunc(d.pendingCause, func(p unexplained) bool {
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

// forget frees events that have ended.
func (d *Driver) forget() {
	for _, id := range d.endedEvents {
		t := d.traces[id]
		if t.whole.open--; t.whole.open == 0 {
			close(t.whole.done)
		}
		delete(d.traces, id)
	}
	d.endedEvents = d.endedEvents[:0]
}

// Name names the code of a function, before it is started for the first time.
func (d *Driver) Name(fn int, version string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.versions[fn] = version
}

// Weight returns how many bytes of replies a track holds.
func (d *Driver) Weight(t *Trace) (n int) {
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
func (d *Driver) Trim(t *Trace, most int) {
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

// NextOn returns the time at which a track's first attempt after another one was
// handed to the same instance, if there is one.
func (d *Driver) NextOn(t *Trace, after *Attempt) (at time.Time, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, x := range t.Attempts {
		if x.Name == after.Name && x.Began.After(after.Began) {
			return x.Began, true
		}
	}
	return at, false
}
