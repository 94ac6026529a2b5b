package forecast

import (
	"cmp"
	"math/bits"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/sim"
)

// Setting is what is simulated.
type Setting struct {
	Limits []plan.Limits
	// Concurrency is the total of the project; 0 for that of the run.
	Concurrency int
	// Held is of which functions the limits hold from the beginning to the end, whatever the drill changes meanwhile.
	Held   []bool
	Seed   uint64
	Levels bool // how functions stood over time is recorded, too
	// Tick is called every few thousand events with how many there were since; where it returns false, no more come.
	// nil for none.
	Tick func(events int) (goOn bool)
}

// Simulate returns what the run would have been, as a run, with its traffic as it was.
func (b *Base) Simulate(s Setting) *record.Run { return b.simulate(s, b.own, false).run() }

// SimulateTraffic is Simulate with other traffic.
func (b *Base) SimulateTraffic(s Setting, t Traffic) (*record.Run, error) {
	o, err := b.newOffers(t)
	if err != nil {
		return nil, err
	}
	return b.simulate(s, o, false).run(), nil
}

// simulate prepares a simulation. With long, its records are not kept.
func (b *Base) simulate(s Setting, o *offers, long bool) *simulation {
	return &simulation{b: b, setting: s, traffic: o.stream(), long: long, inTime: o.inTime,
		calls:    window[call]{from: 1},
		inFlight: make([]int, len(b.functions)), most: make([]int, len(b.functions)),
		services: newDraw(s.Seed, 1, len(b.functions)*pools), starts: newDraw(s.Seed, 2, len(b.functions))}
}

// attemptsOf is how many attempts an event has had: of each function that takes it, of which there is one as a rule.
type attemptsOf struct {
	function int32 // the first one, plus 1
	n        int32
	others   map[int32]int32
}

// next counts an attempt, and returns how many there were before.
func (a *attemptsOf) next(function int32) int {
	switch {
	case a.function == 0 || a.function == function+1:
		a.function = function + 1
		a.n++
		return int(a.n - 1)
	case a.others == nil:
		a.others = map[int32]int32{}
	}
	a.others[function]++
	return int(a.others[function] - 1)
}

// simulation is one simulation in progress.
type simulation struct {
	b         *Base
	setting   Setting
	long      bool // its figures are computed as it goes, and its records are not kept
	inTime    bool // its traffic is about that of the run
	out       record.Run
	figures   *measure.Stream // of a long one
	sim       *sim.Simulation
	traffic   *stream
	begins    clock.Time // when events could fall due
	events    window[simulatedEvent]
	calls     window[call]
	instances window[simulatedInstance]
	inFlight  []int // of each function
	most      []int // and at most
	services  *draw
	starts    *draw
	taken     offered // the event that is being handed in
	ticked    int     // events since Tick was called
}

// simulatedEvent is an event that has deliveries in progress.
type simulatedEvent struct {
	due      clock.Time
	like     int32 // event of the run; -1 for none
	open     int32 // deliveries
	attempts attemptsOf
	children []int32 // events that replies are being sent on as
	caller   caller
	pause    time.Duration // before its caller sends again
}

// call is an invocation that is in flight, or was a moment ago.
type call struct {
	record.Invocation
	open bool
}

// simulatedInstance is an instance that is there.
type simulatedInstance struct {
	record.Instance
	nth  int32
	last clock.Time // when its last invocation was done, or it was ready
}

// window is values by numbers that grow, of which those that are over are forgotten from the first on.
type window[T any] struct {
	from int64 // number of the first
	all  []T
	over []bool
	head int
}

// at returns a value that is not forgotten, made where it is new; nil where it is forgotten.
func (w *window[T]) at(n int64) *T {
	i := int(n-w.from) + w.head
	if n < w.from {
		return nil
	}
	for i >= len(w.all) {
		var zero T
		w.all, w.over = append(w.all, zero), append(w.over, false)
	}
	return &w.all[i]
}

// done marks a value as over: it may be forgotten.
func (w *window[T]) done(n int64) {
	if i := int(n-w.from) + w.head; n >= w.from && i < len(w.over) {
		w.over[i] = true
	}
}

// forget forgets those at the beginning that are over.
func (w *window[T]) forget() {
	for w.head < len(w.over) && w.over[w.head] {
		var zero T
		w.all[w.head] = zero
		w.head++
		w.from++
	}
	if w.head > 1024 && 2*w.head > len(w.all) {
		w.all, w.over = append(w.all[:0], w.all[w.head:]...), append(w.over[:0], w.over[w.head:]...)
		w.head = 0
	}
}

// run carries the simulation out. The run of a long one has no records.
func (x *simulation) run() *record.Run {
	b, base := x.b, x.b.Run
	x.out = record.Run{Project: base.Project, Drill: base.Drill, ID: base.ID + " forecast", Seed: base.Seed,
		Concurrency: base.Concurrency, Finished: true, Functions: slices.Clone(base.Functions),
		Sources: base.Sources, Budgets: base.Budgets, Payloads: base.Payloads, Busy: base.Busy, Rates: base.Rates,
		Machine: base.Machine, Commit: base.Commit}
	if x.inTime {
		x.out.Marks = base.Marks
	}
	for fn := range x.out.Functions {
		f, l := &x.out.Functions[fn], x.setting.Limits[fn]
		f.Max, f.PerInstance, f.KeepWarm, f.Guaranteed = l.Max, l.PerInstance, l.KeepWarm, l.Guaranteed
	}
	p := *b.Project
	x.out.Concurrency = cmp.Or(x.setting.Concurrency, base.Concurrency)
	p.Concurrency = cmp.Or(x.out.Concurrency, p.Concurrency)
	machine := &sim.Machine{Cores: b.Cores}
	if len(b.others) > 0 {
		machine.Others = b.othersAt
	}
	for fn := range b.functions {
		machine.Caps = append(machine.Caps, b.functions[fn].cap)
	}
	if x.long {
		x.figures = measure.NewStream(&x.out)
	} else {
		n := int(x.traffic.events())
		x.out.Arrivals = make([]record.Arrival, 0, n)
		x.out.Attempts = make([]record.Attempt, 0, n)
		x.out.Deliveries = make([]record.Delivery, 0, n)
		x.out.Invocations = make([]record.Invocation, 0, n)
	}
	warm := 0
	for fn := range x.setting.Limits {
		warm += x.setting.Limits[fn].KeepWarm
	}
	opened, ended := warm == 0, false
	x.sim = &sim.Simulation{Project: &p, Limits: x.setting.Limits, Settle: b.Settle, Machine: machine,
		Start: x.start, Invoke: x.invoke, Visit: x.visit, Ready: x.ready,
		Peek: func() (clock.Time, bool) {
			if !opened { // events fall due once the instances of keep_warm are ready
				ready := 0
				for fn := range x.setting.Limits {
					ready += min(x.sim.Stats(fn).Ready, x.setting.Limits[fn].KeepWarm)
				}
				if ready < warm {
					return clock.Never, true
				}
				opened, x.begins = true, x.sim.Now()
				x.sim.Began = x.begins
				x.out.Begins = x.begins
			}
			if ended {
				return 0, false
			}
			due, more := x.traffic.peek(x.sim.Now() - x.begins)
			if due != clock.Never {
				due += x.begins
			}
			return due, more
		},
		Take: func() (sim.Arrival, bool) {
			if x.ticked++; x.ticked == tickEvery && x.setting.Tick != nil {
				ended, x.ticked = !x.setting.Tick(x.ticked), 0
			}
			x.events.forget()
			x.calls.forget()
			x.instances.forget()
			e, ok := x.traffic.take(x.sim.Now() - x.begins)
			if !ok {
				return sim.Arrival{}, false
			}
			x.taken = e
			return sim.Arrival{Due: x.begins + e.due, Source: e.source, Takes: e.takes, Key: e.key, Delay: e.delay,
				Async: e.async}, true
		}}
	if !opened {
		x.sim.Began = clock.Never
	}
	if x.inTime {
		x.sim.Changes = Changes(b.Changes, x.setting.Held, x.setting.Concurrency > 0)
	}
	x.sim.Run()
	x.finish()
	return &x.out
}

// tickEvery is after how many events Tick is called.
const tickEvery = 4096

// Changes returns changes of limits without those of functions whose limits are held, and of the project's total if
// that is.
func Changes(all []plan.Change, held []bool, total bool) (out []plan.Change) {
	for _, c := range all {
		switch {
		case c.Function < 0 && total:
		case c.Function >= 0 && c.Function < len(held) && held[c.Function] && !c.Replace:
		default:
			out = append(out, c)
		}
	}
	return out
}

// start returns what a start takes.
func (x *simulation) start(f *engine.Effect) sim.Work {
	m := &x.b.functions[f.Function]
	if len(m.starts) == 0 {
		return sim.Work{}
	}
	s := m.starts[x.starts.index(int(f.Function), len(m.starts))]
	in := x.instances.at(int64(f.Instance))
	in.Instance = record.Instance{ID: f.Instance, Function: f.Function, Number: f.Number, Spawned: f.At,
		Exec: f.At.Add(s.exec), Cause: f.Cause, After: f.Reason, Peak: m.peakBytes, CPU: s.cpu, ReadyCPU: s.cpu,
		Version: f.Version}
	return sim.Work{CPU: s.cpu, Rest: s.rest}
}

// invoke returns what an invocation takes, and how it is answered.
func (x *simulation) invoke(f *engine.Effect, events []int64) sim.Work {
	m := &x.b.functions[f.Function]
	in := x.instances.at(int64(f.Instance))
	in.nth++
	at, samples := m.nearest(pool{position(int(in.nth)), batched(len(events)), rested(f.At.Sub(in.last))})
	w := sim.Work{Status: 200}
	if len(samples) > 0 {
		s := samples[x.services.index(int(f.Function)*pools+at, len(samples))]
		w.CPU, w.Rest = s.cpu, s.rest
	}
	in.CPU += w.CPU
	for i, id := range events {
		of := x.events.at(id)
		if of == nil || of.like < 0 {
			continue
		}
		nth := of.attempts.next(f.Function)
		e := &x.b.events[of.like]
		if replies := e.repliesOf(f.Function); len(replies) > 0 {
			r := replies[min(nth, len(replies)-1)]
			if r.again {
				w.Retry = append(w.Retry, int32(i))
			}
			if i == 0 || r.status >= record.LeastBad || r.broken != engine.OK {
				w.Status, w.Broken, w.RetryAfter = r.status, r.broken, r.after
			}
			if w.Status == 0 && w.Broken == engine.OK {
				w.Status = 200
			}
			if r.after > 0 && (r.status == 429 || r.status == 503) { // its caller sends again when it is told to
				of.pause = min(r.after, plan.MostPause)
			}
		}
		if w.Broken == engine.OK && w.Status < record.LeastBad {
			for _, c := range e.children {
				child := &x.b.events[c]
				w.Then = append(w.Then, engine.Then{Source: int32(child.source), Takes: child.takes, Key: child.key})
				of.children = append(of.children, int32(c))
			}
		}
	}
	return w
}

// visit records an effect.
func (x *simulation) visit(f *engine.Effect, _ []int64) {
	r := &x.out
	r.Length = max(r.Length, f.At)
	switch f.Kind {
	case engine.EventTaken:
		x.take(f)
	case engine.Send:
		in := x.instances.at(int64(f.Instance))
		in.Wanted = in.Wanted || f.Class == engine.Cold
		v := x.calls.at(int64(f.Invocation))
		v.open = true
		x.inFlight[f.Function]++
		x.most[f.Function] = max(x.most[f.Function], x.inFlight[f.Function])
		v.Invocation = record.Invocation{ID: f.Invocation, Assigned: f.At, Sent: f.At,
			Function: f.Function, Instance: f.Instance, Slot: f.Slot, Source: f.Source, Wire: f.Wire, Batch: f.N,
			Class: f.Class}
		if x.long {
			x.figures.Began(&v.Invocation)
		}
	case engine.GivenUp:
		if v := x.calls.at(int64(f.Invocation)); v != nil && v.open {
			v.Done, v.Result = f.At, engine.Timeout
			x.over(v)
		}
	case engine.Stop:
		in := x.instances.at(int64(f.Instance))
		in.Stopped, in.Reason = f.At, f.Reason
		x.gone(in)
		x.instances.done(int64(f.Instance))
	case engine.AttemptEnded:
		x.attempted(f)
	case engine.Ended:
		x.delivered(f)
	}
	if x.setting.Levels {
		x.level(f)
	}
}

// take records an event.
func (x *simulation) take(f *engine.Effect) {
	a := record.Arrival{Due: f.At, Arrived: f.At, From: -1, Source: f.Source, Origin: f.Origin}
	e := x.events.at(f.Event)
	*e = simulatedEvent{due: f.At, like: x.taken.like, caller: x.taken.caller,
		open: int32(max(bits.OnesCount64(x.taken.takes), 1))}
	if f.Origin != engine.FromOutside {
		from := x.events.at(f.From)
		a.From, e.like, e.caller = f.From, -1, noCaller
		if from != nil {
			e.like = from.like
			if f.Origin == engine.FromReply && len(from.children) > 0 {
				e.like, from.children = from.children[0], from.children[1:]
			}
		}
		e.open = 1
		if e.like >= 0 && f.Origin == engine.FromReply {
			e.open = int32(max(bits.OnesCount64(x.b.events[e.like].takes), 1))
		}
	}
	if x.long {
		x.figures.Arrived(&a)
		return
	}
	if e.like >= 0 {
		a.Payload, a.Round = x.b.events[e.like].payload, x.b.events[e.like].round
	}
	x.out.Arrivals = append(x.out.Arrivals, a)
}

// attempted records an attempt that is over.
func (x *simulation) attempted(f *engine.Effect) {
	a := record.Attempt{Event: f.Event, Invocation: f.Invocation, Source: f.Source, Wire: f.Wire, N: f.Attempt,
		Result: f.Result}
	v := x.invocation(f)
	if v != nil && v.open {
		v.Received, v.Done, v.Result, v.Status = f.At, f.At, f.Result, f.Status
		if brokenBy(f.Result) == engine.OK && f.Result != engine.Timeout {
			v.Result = engine.OK
		}
		x.over(v)
	}
	if !x.long {
		x.out.Attempts = append(x.out.Attempts, a)
	} else if e := x.events.at(f.Event); v != nil && e != nil && v.Result != engine.RunEnded {
		x.figures.Attempted(&a, &v.Invocation, e.due)
	}
}

// invocation returns the invocation of an effect; nil where it has none, or it is long over.
func (x *simulation) invocation(f *engine.Effect) *call {
	if f.Invocation == 0 {
		return nil
	}
	return x.calls.at(int64(f.Invocation))
}

// over records an invocation that is over.
func (x *simulation) over(v *call) {
	v.open = false
	x.calls.done(int64(v.ID))
	x.inFlight[v.Function]--
	if in := x.instances.at(int64(v.Instance)); in != nil {
		in.last = v.Done
	}
	if x.long {
		x.figures.Invoked(&v.Invocation)
		return
	}
	x.out.Invocations = append(x.out.Invocations, v.Invocation)
}

// delivered records a delivery that has its outcome.
func (x *simulation) delivered(f *engine.Effect) {
	d := record.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At, Source: f.Source, Wire: f.Wire,
		Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause}
	e := x.events.at(f.Event)
	if !x.long {
		x.out.Deliveries = append(x.out.Deliveries, d)
	} else if e != nil {
		var of *record.Invocation
		if v := x.invocation(f); v != nil {
			of = &v.Invocation
		}
		x.figures.Delivered(&d, of, e.due)
	}
	if e == nil {
		return
	}
	if f.Outcome == engine.Rejected {
		e.pause = max(e.pause, plan.RejectedPause)
	}
	if e.open--; e.open <= 0 {
		x.traffic.answered(e.caller, f.At.Add(e.pause)-x.begins)
		x.events.done(f.Event)
	}
}

// ready notes that an instance is ready.
func (x *simulation) ready(instance int32, at clock.Time) {
	in := x.instances.at(int64(instance))
	if in == nil || in.Stopped > 0 {
		return
	}
	in.Ready, in.last = at, at
	if x.long {
		x.figures.Ready(&in.Instance)
	}
}

// gone records an instance that is gone.
func (x *simulation) gone(in *simulatedInstance) {
	if x.long {
		x.figures.Gone(&in.Instance, in.Stopped)
		return
	}
	x.keep(in)
}

// keep keeps the record of an instance.
func (x *simulation) keep(in *simulatedInstance) {
	for n := len(x.out.Instances); n <= int(in.ID); n++ {
		x.out.Instances = append(x.out.Instances, record.Instance{ID: int32(n), Function: -1})
	}
	x.out.Instances[in.ID] = in.Instance
}

// level records how a function stands.
func (x *simulation) level(f *engine.Effect) {
	l := x.sim.Stats(int(f.Function))
	x.out.Levels = append(x.out.Levels, record.Level{At: f.At, Function: f.Function, Waiting: int32(l.Waiting),
		InFlight: int32(l.InFlight), Starting: int32(l.Starting), Ready: int32(l.Ready)})
}

// finish records what is still there when the run ends.
func (x *simulation) finish() {
	r := &x.out
	for i := x.calls.head; i < len(x.calls.all); i++ {
		if v := &x.calls.all[i]; v.open {
			v.Done, v.Result = r.Length, engine.RunEnded
			x.over(v)
		}
	}
	for i := x.instances.head; i < len(x.instances.all); i++ {
		in := &x.instances.all[i]
		if x.instances.over[i] || in.Spawned == 0 && in.Number == 0 {
			continue
		}
		if x.long {
			x.figures.Gone(&in.Instance, r.Length)
		} else {
			x.keep(in)
		}
	}
	for i := range r.Arrivals {
		if r.Arrivals[i].Offered() {
			r.LastDue = max(r.LastDue, r.Arrivals[i].Due)
		}
	}
}
