package forecast

import (
	"cmp"
	"slices"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
	"nightdrill/internal/core/sim"
)

// Setting is what is simulated.
type Setting struct {
	Limits []plan.Limits
	// Concurrency is the total of the project; 0 for that of the run.
	Concurrency int
	// Held is of which functions the limits hold from the beginning to the end, whatever the drill changes meanwhile.
	Held    []bool
	Traffic float64 // times as many events; 0 for 1
	Seed    uint64
	Levels  bool // how functions stood over time is recorded, too
}

// Simulate returns what the run would have been, as a run.
func (b *Base) Simulate(s Setting) *record.Run {
	r, _ := b.simulate(s)
	return r
}

// simulate returns the most that each function had in flight at once, too.
func (b *Base) simulate(s Setting) (*record.Run, []int) {
	x := &simulation{b: b, setting: s, children: map[int64][]int{}, inFlight: make([]int, len(b.functions)),
		most: make([]int, len(b.functions)), services: newDraw(s.Seed, 1, len(b.functions)*pools),
		starts: newDraw(s.Seed, 2, len(b.functions))}
	return x.run(), x.most
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
	b        *Base
	setting  Setting
	out      record.Run
	sim      *sim.Simulation
	arrivals []arrival
	next     int
	of       []int           // events of the run by those of the simulation
	open     []int32         // places of invocations in flight by their numbers; -1 for none
	nth      []int32         // invocations of each instance
	last     []clock.Time    // when the last one was done, or it was ready
	children map[int64][]int // events that replies are being sent on as
	attempts []attemptsOf    // of each event of the simulation
	inFlight []int           // of each function
	most     []int           // and at most
	services *draw
	starts   *draw
	taken    int // the event that is being handed in
}

// arrival is when an event of the run falls due in the simulation.
type arrival struct {
	due   clock.Time
	event int
}

// schedule lays out the events: those of the run, or as many times as many, between them.
func (x *simulation) schedule() {
	var offered []int
	for i := range x.b.events {
		if x.b.events[i].outside {
			offered = append(offered, i)
		}
	}
	slices.SortStableFunc(offered, func(i, k int) int { return int(x.b.events[i].due - x.b.events[k].due) })
	times := x.setting.Traffic
	if times == 0 || times == 1 {
		for _, i := range offered {
			x.arrivals = append(x.arrivals, arrival{max(x.b.events[i].due, 0), i})
		}
		return
	}
	n := int(float64(len(offered))*times + 0.5)
	for k := range n {
		place := float64(k) / times
		i := min(int(place), len(offered)-1)
		due := x.b.events[offered[i]].due
		if i+1 < len(offered) {
			due += clock.Time((place - float64(i)) * float64(x.b.events[offered[i+1]].due-due))
		}
		x.arrivals = append(x.arrivals, arrival{max(due, 0), offered[i]})
	}
	slices.SortStableFunc(x.arrivals, func(a, b arrival) int { return int(a.due - b.due) })
}

func (x *simulation) run() *record.Run {
	b := x.b
	x.schedule()
	base := b.Run
	x.out = record.Run{Project: base.Project, Drill: base.Drill, ID: base.ID + " forecast", Seed: base.Seed,
		Concurrency: base.Concurrency, Finished: true, Functions: slices.Clone(base.Functions),
		Sources: base.Sources, Budgets: base.Budgets, Payloads: base.Payloads, Busy: base.Busy, Rates: base.Rates,
		Machine: base.Machine, Commit: base.Commit, Marks: base.Marks}
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
	x.out.Arrivals = make([]record.Arrival, 0, len(x.arrivals))
	x.out.Attempts = make([]record.Attempt, 0, len(x.arrivals))
	x.out.Deliveries = make([]record.Delivery, 0, len(x.arrivals))
	x.out.Invocations = make([]record.Invocation, 0, len(x.arrivals))
	begins, warm := clock.Time(0), 0
	for fn := range x.setting.Limits {
		warm += x.setting.Limits[fn].KeepWarm
	}
	opened := warm == 0
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
				opened, begins = true, x.sim.Now()
				x.sim.Began = begins
				x.out.Begins = begins
			}
			if x.next >= len(x.arrivals) {
				return 0, false
			}
			return begins + x.arrivals[x.next].due, true
		},
		Take: func() sim.Arrival {
			a := x.arrivals[x.next]
			x.next++
			x.taken = a.event
			e := &b.events[a.event]
			return sim.Arrival{Due: begins + a.due, Source: e.source, Takes: e.takes, Key: e.key, Delay: e.delay,
				Async: e.async}
		}}
	if !opened {
		x.sim.Began = clock.Never
	}
	x.sim.Changes = Changes(b.Changes, x.setting.Held, x.setting.Concurrency > 0)
	x.sim.Run()
	x.finish()
	return &x.out
}

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
	for int(f.Instance) >= len(x.out.Instances) {
		x.out.Instances = append(x.out.Instances, record.Instance{ID: int32(len(x.out.Instances)), Function: -1})
	}
	x.out.Instances[f.Instance] = record.Instance{ID: f.Instance, Function: f.Function, Number: f.Number, Spawned: f.At,
		Exec: f.At.Add(s.exec), Cause: f.Cause, After: f.Reason, Peak: m.peakBytes, CPU: s.cpu, ReadyCPU: s.cpu,
		Version: f.Version}
	return sim.Work{CPU: s.cpu, Rest: s.rest}
}

// invoke returns what an invocation takes, and how it is answered.
func (x *simulation) invoke(f *engine.Effect, events []int64) sim.Work {
	m := &x.b.functions[f.Function]
	for int(f.Instance) >= len(x.nth) {
		x.nth, x.last = append(x.nth, 0), append(x.last, x.readyAt(int32(len(x.last))))
	}
	x.nth[f.Instance]++
	at, samples := m.nearest(pool{position(int(x.nth[f.Instance])), batched(len(events)),
		rested(f.At.Sub(x.last[f.Instance]))})
	w := sim.Work{Status: 200}
	if len(samples) > 0 {
		s := samples[x.services.index(int(f.Function)*pools+at, len(samples))]
		w.CPU, w.Rest = s.cpu, s.rest
	}
	if int(f.Instance) < len(x.out.Instances) {
		x.out.Instances[f.Instance].CPU += w.CPU
	}
	for i, id := range events {
		e := &x.b.events[x.of[id]]
		nth := x.attempts[id].next(f.Function)
		if replies := e.repliesOf(f.Function); len(replies) > 0 {
			r := replies[min(nth, len(replies)-1)]
			if r.again {
				w.Retry = append(w.Retry, int32(i))
			}
			if i == 0 || r.status >= record.LeastBad || r.broken != engine.OK {
				w.Status, w.Broken = r.status, r.broken
			}
			if w.Status == 0 && w.Broken == engine.OK {
				w.Status = 200
			}
		}
		if w.Broken == engine.OK && w.Status < record.LeastBad {
			for _, c := range e.children {
				child := &x.b.events[c]
				w.Then = append(w.Then, engine.Then{Source: int32(child.source), Takes: child.takes, Key: child.key})
				x.children[id] = append(x.children[id], c)
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
		at := x.taken
		a := record.Arrival{Due: f.At, Arrived: f.At, From: -1, Source: f.Source, Origin: f.Origin}
		if f.Origin != engine.FromOutside {
			a.From, at = f.From, x.of[f.From]
			if c := x.children[f.From]; f.Origin == engine.FromReply && len(c) > 0 {
				at, x.children[f.From] = c[0], c[1:]
			}
		}
		for int(f.Event) >= len(x.of) {
			x.of, x.attempts = append(x.of, 0), append(x.attempts, attemptsOf{})
		}
		x.of[f.Event] = at
		a.Payload, a.Round = x.b.events[at].payload, x.b.events[at].round
		r.Arrivals = append(r.Arrivals, a)
	case engine.Send:
		if f.Class == engine.Cold {
			r.Instances[f.Instance].Wanted = true
		}
		for int(f.Invocation) >= len(x.open) {
			x.open = append(x.open, -1)
		}
		x.open[f.Invocation] = int32(len(r.Invocations))
		x.inFlight[f.Function]++
		x.most[f.Function] = max(x.most[f.Function], x.inFlight[f.Function])
		r.Invocations = append(r.Invocations, record.Invocation{ID: f.Invocation, Assigned: f.At, Sent: f.At,
			Function: f.Function, Instance: f.Instance, Slot: f.Slot, Source: f.Source, Wire: f.Wire, Batch: f.N,
			Class: f.Class})
	case engine.GivenUp:
		if v := x.close(f); v != nil {
			v.Done, v.Result = f.At, engine.Timeout
		}
	case engine.Stop:
		in := &r.Instances[f.Instance]
		in.Stopped, in.Reason = f.At, f.Reason
	case engine.AttemptEnded:
		r.Attempts = append(r.Attempts, record.Attempt{Event: f.Event, Invocation: f.Invocation, Source: f.Source,
			Wire: f.Wire, N: f.Attempt, Result: f.Result})
		if v := x.close(f); v != nil {
			v.Received, v.Done, v.Result, v.Status = f.At, f.At, f.Result, f.Status
			if brokenBy(f.Result) == engine.OK && f.Result != engine.Timeout {
				v.Result = engine.OK
			}
		}
	case engine.Ended:
		r.Deliveries = append(r.Deliveries, record.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At,
			Source: f.Source, Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
	}
	if x.setting.Levels {
		x.level(f)
	}
}

// readyAt returns when an instance was ready.
func (x *simulation) readyAt(instance int32) clock.Time {
	if int(instance) < len(x.out.Instances) {
		return x.out.Instances[instance].Ready
	}
	return 0
}

// close returns the invocation of an effect, once: nil where it is no longer in flight.
func (x *simulation) close(f *engine.Effect) *record.Invocation {
	if f.Invocation >= uint64(len(x.open)) || x.open[f.Invocation] < 0 {
		return nil
	}
	v := &x.out.Invocations[x.open[f.Invocation]]
	x.open[f.Invocation] = -1
	x.inFlight[v.Function]--
	x.last[v.Instance] = f.At
	return v
}

// ready notes that an instance is ready.
func (x *simulation) ready(instance int32, at clock.Time) {
	if int(instance) < len(x.out.Instances) {
		x.out.Instances[instance].Ready = at
	}
}

// level records how a function stands.
func (x *simulation) level(f *engine.Effect) {
	l := x.sim.Stats(int(f.Function))
	x.out.Levels = append(x.out.Levels, record.Level{At: f.At, Function: f.Function, Waiting: int32(l.Waiting),
		InFlight: int32(l.InFlight), Starting: int32(l.Starting), Ready: int32(l.Ready)})
}

// finish puts the records in the order in which a live run has them.
func (x *simulation) finish() {
	r := &x.out
	for _, k := range x.open {
		if k >= 0 { // in flight when the run ended
			r.Invocations[k].Done, r.Invocations[k].Result = r.Length, engine.RunEnded
		}
	}
	slices.SortStableFunc(r.Invocations, func(a, b record.Invocation) int { return int(a.Done - b.Done) })
	for i := range r.Arrivals {
		if r.Arrivals[i].Offered() {
			r.LastDue = max(r.LastDue, r.Arrivals[i].Due)
		}
	}
}
