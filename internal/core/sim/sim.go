// Package sim is the engine in virtual time: service and start times are drawn
// from distributions, and a run of hours takes seconds. It obeys exactly the
// rules that a live run obeys, since the engine is the same.
package sim

import (
	"container/heap"
	"slices"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/rng"
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
}

// Run carries out a simulation: arrivals come from next until it says false,
// each not before the one before it; visit gets every effect, with the memory
// that Send's events are in. It returns when the engine says that it is over.
func Run(p *plan.Project, limits []plan.Limits, settle time.Duration, functions []Function, seed uint64,
	next func() (Arrival, bool), visit func(*engine.Effect, []int64)) {
	s := &state{eng: engine.New(p, limits, settle), functions: functions, visit: visit}
	for i := range functions {
		s.starts = append(s.starts, rng.New(seed, uint64(2*i)))
		s.services = append(s.services, rng.New(seed, uint64(2*i+1)))
	}
	s.handle(0, engine.Input{})
	arrival, more := next()
	for !s.over {
		at, answer := clock.Never, len(s.due) > 0
		if answer {
			at = s.due[0].at
		}
		// at equal times: answers, timers, arrivals
		if s.wake < at {
			at, answer = s.wake, false
		}
		switch {
		case more && arrival.Due < at:
			s.handle(arrival.Due, engine.Input{Kind: engine.Arrived, Source: int32(arrival.Source),
				Routes: arrival.Takes, Key: arrival.Key})
			if arrival, more = next(); !more {
				s.handle(s.now, engine.Input{Kind: engine.NoMore})
			}
		case answer:
			s.handle(at, heap.Pop(&s.due).(pending).input)
		case at == clock.Never:
			return // nothing is left that could happen
		default:
			s.handle(at, engine.Input{})
		}
	}
	s.handle(s.now, engine.Input{Kind: engine.End})
}

type state struct {
	eng              *engine.Engine
	fx               engine.Effects
	now, wake        clock.Time
	due              queue
	order            uint64
	functions        []Function
	starts, services []*rng.Source
	visit            func(*engine.Effect, []int64)
	over             bool
}

func (s *state) handle(now clock.Time, in engine.Input) {
	s.now = now
	s.fx.Reset()
	s.wake = s.eng.Handle(now, in, &s.fx)
	for i := range s.fx.List {
		f := &s.fx.List[i]
		switch f.Kind {
		case engine.Start:
			s.later(f.At.Add(s.functions[f.Function].Start(s.starts[f.Function])), engine.Input{Kind: engine.Ready,
				Instance: f.Instance})
		case engine.Send:
			s.later(f.At.Add(s.functions[f.Function].Service(s.services[f.Function])),
				engine.Input{Kind: engine.Answered, Instance: f.Instance, Slot: f.Slot, Invocation: f.Invocation,
					Status: 200})
		case engine.Stop:
			s.later(f.At, engine.Input{Kind: engine.Exited, Instance: f.Instance})
		case engine.Over:
			s.over = true
		}
		if s.visit != nil {
			s.visit(f, s.fx.Events)
		}
	}
}

func (s *state) later(at clock.Time, in engine.Input) {
	s.order++
	heap.Push(&s.due, pending{at, s.order, in})
}

// pending is an input that will happen.
type pending struct {
	at    clock.Time
	order uint64
	input engine.Input
}

type queue []pending

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	return q[i].at < q[j].at || q[i].at == q[j].at && q[i].order < q[j].order
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(pending)) }
func (q *queue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}
