// Package sim is the engine in virtual time: service and start times are drawn
// from distributions, and a run of hours takes seconds. It obeys exactly the
// rules that a live run obeys, since the engine is the same.
//
// [Run] is for functions that take as long as is drawn. A [Simulation] has work that
// is done by the processors of a machine (machine.go), and replies of all kinds.
package sim

import (
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/rng"
)

// Dist draws a duration.
type Dist func(*rng.Source) time.Duration

// Fixed is always the same.
func Fixed(d time.Duration) Dist { return func(*rng.Source) time.Duration { return d } }

// Exponential returns a memoryless distribution with the given mean.
func Exponential(mean time.Duration) Dist {
	return func(s *rng.Source) time.Duration { return s.Exp(mean) }
}

// Sampled draws from what was measured, each as likely as the others.
func Sampled(measured []time.Duration) Dist {
	measured = slices.Clone(measured)
	return func(s *rng.Source) time.Duration { return measured[s.Below(len(measured))] }
}

// Function describes how long a function's instances take.
type Function struct{ Start, Service Dist }

// Arrival is an event that falls due at a source.
type Arrival struct {
	Due    clock.Time
	Source int
	Takes  uint64 // the source's wires that take it
	Key    int32  // its partition or group, from 1; 0 where order is nothing
	Delay  time.Duration
	Async  bool
}

// Run carries out a simulation: arrivals come from next until it says false,
// each not before the one before it; visit gets every effect, with the memory
// that Send's events are in. It returns when the engine says that it is over.
func Run(p *plan.Project, limits []plan.Limits, settle time.Duration, functions []Function, seed uint64,
	next func() (Arrival, bool), visit func(*engine.Effect, []int64)) {
	starts, services := make([]*rng.Source, len(functions)), make([]*rng.Source, len(functions))
	for i := range functions {
		starts[i], services[i] = rng.New(seed, uint64(2*i)), rng.New(seed, uint64(2*i+1))
	}
	s := &Simulation{Project: p, Limits: limits, Settle: settle, Visit: visit,
		Start: func(f *engine.Effect) Work { return Work{Rest: functions[f.Function].Start(starts[f.Function])} },
		Invoke: func(f *engine.Effect, _ []int64) Work {
			return Work{Rest: functions[f.Function].Service(services[f.Function]), Status: 200}
		}}
	var arrival Arrival
	known, more := false, true
	s.Peek = func() (clock.Time, bool) {
		if !known && more {
			arrival, more = next()
			known = more
		}
		return arrival.Due, more
	}
	s.Take = func() (Arrival, bool) {
		known = false
		return arrival, true
	}
	s.Run()
}

// Work is what an instance's start, or an invocation, takes.
type Work struct {
	CPU  time.Duration // of a processor
	Rest time.Duration // beside that: asleep, or waiting for others
	// of invocations: the reply, or, with Broken, that there is none
	Status     int32
	Retry      []int32
	RetryAfter time.Duration // 0 for none
	Broken     engine.Result // engine.OK for a reply
	Then       []engine.Then
}

// Simulation is the engine with its drill in virtual time. All of its functions are called by Run, one at a time.
type Simulation struct {
	Project *plan.Project
	Limits  []plan.Limits
	Settle  time.Duration
	Machine *Machine // nil where work never waits for a processor
	Changes []plan.Change
	// Began is the moment from which the times of changes count; clock.Never for not yet.
	Began clock.Time

	Start  func(f *engine.Effect) Work
	Invoke func(f *engine.Effect, events []int64) Work
	// Peek returns when the next event falls due; clock.Never where that is not known yet, and false where none will.
	Peek func() (clock.Time, bool)
	// Take returns the event that falls due next; false where none comes of it after all.
	Take func() (Arrival, bool)
	// Visit gets every effect, with the memory that Send's events are in; nil for none.
	Visit func(*engine.Effect, []int64)
	// Ready is called when an instance becomes ready; nil for none.
	Ready func(instance int32, at clock.Time)

	eng     *engine.Engine
	fx      engine.Effects
	now     clock.Time
	wake    clock.Time
	due     queue[moment, engine.Input]
	order   uint64
	over    bool
	noMore  bool
	changed int
}

// Now returns the time of the simulation.
func (s *Simulation) Now() clock.Time { return s.now }

// Stats returns how a function stands now.
func (s *Simulation) Stats(fn int) engine.Stats { return s.eng.Stats(fn) }

// Run carries the simulation out, until the engine says that it is over.
func (s *Simulation) Run() {
	s.eng = engine.New(s.Project, s.Limits, s.Settle)
	s.handle(0, engine.Input{})
	for !s.over {
		at, answer := clock.Never, false
		if s.due.len() > 0 {
			at, answer = s.due.first().at, true
		}
		ofMachine := false
		if s.Machine != nil {
			if t := s.Machine.next(); t < at {
				at, answer, ofMachine = t, true, true
			}
		}
		// at equal times: answers, timers, arrivals
		if s.wake < at {
			at, answer, ofMachine = s.wake, false, false
		}
		change := false
		if s.changed < len(s.Changes) && s.Began != clock.Never {
			if t := max(s.Began.Add(s.Changes[s.changed].At), s.now); t <= at {
				at, change = t, true
			}
		}
		if !s.noMore {
			due, more := s.Peek()
			switch {
			case !more:
				s.noMore = true
				s.handle(s.now, engine.Input{Kind: engine.NoMore})
				continue
			case due < at:
				a, ok := s.Take()
				if !ok {
					continue
				}
				s.handle(max(due, s.now), engine.Input{Kind: engine.Arrived, Source: int32(a.Source), Routes: a.Takes,
					Key: a.Key, Delay: a.Delay, Async: a.Async})
				continue
			}
		}
		switch {
		case change:
			s.change(at)
		case ofMachine:
			if j, ok := s.Machine.finish(at); ok {
				s.later(at.Add(j.rest), j.input)
			}
		case answer:
			in := s.due.pop()
			if in.Kind == engine.Ready && s.Ready != nil {
				s.Ready(in.Instance, at)
			}
			s.handle(at, in)
		case at == clock.Never:
			return // nothing is left that could happen
		default:
			s.handle(at, engine.Input{})
		}
	}
	s.handle(s.now, engine.Input{Kind: engine.End})
}

// change carries out the next change of limits.
func (s *Simulation) change(at clock.Time) {
	c := &s.Changes[s.changed]
	s.changed++
	switch {
	case c.Function < 0:
		s.handle(at, engine.Input{Kind: engine.SetProject, Concurrency: int32(c.Concurrency)})
	case c.Replace:
		s.handle(at, engine.Input{Kind: engine.Replace, Function: int32(c.Function)})
	default:
		s.handle(at, engine.Input{Kind: engine.SetLimits, Function: int32(c.Function), Limits: c.Limits})
	}
}

func (s *Simulation) handle(now clock.Time, in engine.Input) {
	s.now = now
	s.fx.Reset()
	s.wake = s.eng.Handle(now, in, &s.fx)
	for i := range s.fx.List {
		f := &s.fx.List[i]
		switch f.Kind {
		case engine.Start:
			w := s.Start(f)
			s.work(f, &w, engine.Input{Kind: engine.Ready, Instance: f.Instance})
		case engine.Send:
			w := s.Invoke(f, s.fx.Events[f.First:f.First+f.N])
			in := engine.Input{Kind: engine.Answered, Instance: f.Instance, Slot: f.Slot, Invocation: f.Invocation,
				Status: w.Status, Retry: w.Retry, RetryAfter: w.RetryAfter, Then: w.Then}
			if w.Broken != engine.OK {
				in = engine.Input{Kind: engine.Broken, Instance: f.Instance, Slot: f.Slot, Invocation: f.Invocation,
					Result: w.Broken}
			}
			s.work(f, &w, in)
		case engine.Stop:
			s.later(f.At, engine.Input{Kind: engine.Exited, Instance: f.Instance})
		case engine.Over:
			s.over = true
		}
		if s.Visit != nil {
			s.Visit(f, s.fx.Events)
		}
	}
}

// work has an input happen once work is done.
func (s *Simulation) work(f *engine.Effect, w *Work, in engine.Input) {
	if s.Machine == nil || w.CPU <= 0 {
		s.later(f.At.Add(w.CPU+w.Rest), in)
		return
	}
	s.Machine.add(f.At, f.Function, w.CPU, w.Rest, in)
}

func (s *Simulation) later(at clock.Time, in engine.Input) {
	s.order++
	s.due.push(moment{at, s.order}, in)
}

// moment is when an input will happen.
type moment struct {
	at    clock.Time
	order uint64
}

// Before reports whether an input happens before another one.
func (p moment) Before(q moment) bool { return p.at < q.at || p.at == q.at && p.order < q.order }

// queue is a binary heap by keys, the first on top. It has no interface between its keys and their order, which would
// put each of them on the heap of the program, and it moves no values, which are large.
type queue[K interface{ Before(K) bool }, V any] struct {
	all    []entry[K]
	values []V
	free   []int32 // places in values
}

type entry[K any] struct {
	key   K
	place int32 // in values
}

func (q *queue[K, V]) len() int { return len(q.all) }

func (q *queue[K, V]) first() *K { return &q.all[0].key }

func (q *queue[K, V]) push(key K, value V) {
	place := int32(len(q.values))
	if last := len(q.free) - 1; last >= 0 {
		place, q.free = q.free[last], q.free[:last]
		q.values[place] = value
	} else {
		q.values = append(q.values, value)
	}
	q.all = append(q.all, entry[K]{key, place})
	for i := len(q.all) - 1; i > 0; {
		up := (i - 1) / 2
		if !q.all[i].key.Before(q.all[up].key) {
			break
		}
		q.all[i], q.all[up] = q.all[up], q.all[i]
		i = up
	}
}

func (q *queue[K, V]) pop() (value V) {
	top, last := q.all[0], len(q.all)-1
	q.all[0] = q.all[last]
	q.all = q.all[:last]
	for i := 0; ; {
		down := 2*i + 1
		if down >= last {
			break
		}
		if down+1 < last && q.all[down+1].key.Before(q.all[down].key) {
			down++
		}
		if !q.all[down].key.Before(q.all[i].key) {
			break
		}
		q.all[i], q.all[down] = q.all[down], q.all[i]
		i = down
	}
	q.free = append(q.free, top.place)
	return q.values[top.place]
}
