package recordtest

import (
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/sim"
)

// Scene is a run with one function, in virtual time: everything in it is calm but
// for what a test changes.
type Scene struct {
	Limits  plan.Limits
	Source  plan.Source
	All     int
	Start   time.Duration // of which the command's own code takes boot
	Boot    time.Duration
	Service func(nth int) time.Duration // of the n-th invocation of an instance
	Gap     time.Duration
	N       int
	Burst   int // arrivals at once
	After   func(*record.Run)
}

// Calm returns the scene in which nothing is worth a sentence.
func Calm() Scene {
	return Scene{Limits: plan.Limits{Max: 10, PerInstance: 1, IdleAfter: 300 * time.Millisecond},
		Source: plan.Source{Name: "s", DeadLetter: -1, Wait: time.Second}, All: 100,
		Start: 8 * time.Millisecond, Boot: 5 * time.Millisecond,
		Service: func(int) time.Duration { return 5 * time.Millisecond }, Gap: 20 * time.Millisecond, N: 600, Burst: 1}
}

// Run carries the scene out, and records what the driver would record.
func (s Scene) Run() *record.Run {
	s.Source.Wires = []plan.Wire{{}}
	p := &plan.Project{Concurrency: s.All, Functions: []plan.Function{{Name: "f", Timeout: 2 * time.Second,
		StartTimeout: 10 * time.Second, Limits: s.Limits}}, Sources: []plan.Source{s.Source}}
	r := &record.Run{Project: "p", Drill: "d", ID: "run", Finished: true, Busy: 0.2, Concurrency: s.All,
		Functions: []record.Function{{Name: "f", Max: s.Limits.Max, PerInstance: s.Limits.PerInstance,
			KeepWarm: s.Limits.KeepWarm}},
		Sources:  []record.Source{{Name: "s", Kind: s.Source.Kind.String(), To: []int{0}}},
		Payloads: []record.Payload{{Set: "x", N: 1}}}
	if s.Source.Kind == plan.HTTP {
		r.Sources[0].Routes = []string{"/"}
	}
	rnd := rng.New(3, 1)
	jitter := func(d time.Duration) time.Duration { return d + rnd.Between(0, d/8+1) }
	nth := map[int32]int{}
	open := map[uint64]int{}
	var asked int32
	functions := []sim.Function{{Start: func(*rng.Source) time.Duration { return jitter(s.Start) },
		Service: func(*rng.Source) time.Duration { nth[asked]++; return jitter(s.Service(nth[asked])) }}}
	k := 0
	next := func() (sim.Arrival, bool) {
		if k == s.N {
			return sim.Arrival{}, false
		}
		k++
		return sim.Arrival{Due: clock.Time(time.Duration((k-1)/s.Burst) * s.Gap * time.Duration(s.Burst)), Takes: 1},
			true
	}
	sim.Run(p, []plan.Limits{s.Limits}, 20*time.Second, functions, 1, next, func(f *engine.Effect, events []int64) {
		r.Length = max(r.Length, f.At)
		switch f.Kind {
		case engine.EventTaken:
			r.Arrivals = append(r.Arrivals, record.Arrival{Due: f.At, Arrived: f.At, From: -1})
		case engine.Start:
			for int(f.Instance) >= len(r.Instances) {
				r.Instances = append(r.Instances, record.Instance{ID: int32(len(r.Instances))})
			}
			r.Instances[f.Instance] = record.Instance{ID: f.Instance, Number: f.Number, Spawned: f.At, Cause: f.Cause,
				Wanted: true, Peak: 30 << 20}
		case engine.Send:
			asked = f.Instance
			in := &r.Instances[f.Instance]
			if in.Ready == 0 {
				in.Ready = f.At
				in.Exec = max(in.Spawned, f.At.Add(-s.Boot))
			}
			open[f.Invocation] = len(r.Invocations)
			r.Invocations = append(r.Invocations, record.Invocation{ID: f.Invocation, Assigned: f.At, Sent: f.At,
				Instance: f.Instance, Slot: f.Slot, Batch: f.N, Status: 200, Class: f.Class})
		case engine.Stop:
			r.Instances[f.Instance].Stopped, r.Instances[f.Instance].Reason = f.At, f.Reason
		case engine.AttemptEnded:
			if v := &r.Invocations[open[f.Invocation]]; f.Invocation > 0 {
				v.Received, v.Done, v.Result = f.At, f.At, f.Result
			}
			r.Attempts = append(r.Attempts, record.Attempt{Event: f.Event, Invocation: f.Invocation, N: f.Attempt,
				Result: f.Result})
		case engine.Ended:
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At,
				Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
		}
	})
	r.Levels = levels(r)
	slices.SortFunc(r.Invocations, func(a, b record.Invocation) int { return int(a.Done - b.Done) })
	if s.After != nil {
		s.After(r)
	}
	return r
}

// levels returns what a driver reads from the engine: how many wait, are in flight, are
// being started and are ready, after each change.
func levels(r *record.Run) (out []record.Level) {
	sent, ended := map[int64]clock.Time{}, map[int64]clock.Time{}
	byID := map[uint64]*record.Invocation{}
	for i := range r.Invocations {
		byID[r.Invocations[i].ID] = &r.Invocations[i]
	}
	for i := range r.Deliveries {
		ended[r.Deliveries[i].Event] = r.Deliveries[i].Ended
	}
	for i := range r.Attempts {
		if a := &r.Attempts[i]; a.N == 1 && a.Invocation > 0 {
			sent[a.Event] = byID[a.Invocation].Sent
		}
	}
	var all []record.Level
	span := func(from, to clock.Time, l record.Level) {
		if to > from {
			back := record.Level{At: to, Waiting: -l.Waiting, InFlight: -l.InFlight, Starting: -l.Starting,
				Ready: -l.Ready}
			l.At = from
			all = append(all, l, back)
		}
	}
	for i := range r.Arrivals {
		until, ok := sent[int64(i)]
		if !ok {
			until = ended[int64(i)]
		}
		span(r.Arrivals[i].Arrived, until, record.Level{Waiting: 1})
	}
	for i := range r.Invocations {
		span(r.Invocations[i].Assigned, r.Invocations[i].Done, record.Level{InFlight: 1})
	}
	for i := range r.Instances {
		in := &r.Instances[i]
		span(in.Spawned, in.Ready, record.Level{Starting: 1})
		span(in.Ready, max(in.Stopped, in.Ready), record.Level{Ready: 1})
	}
	slices.SortStableFunc(all, func(a, b record.Level) int { return int(a.At - b.At) })
	var now record.Level
	for i, l := range all {
		now = record.Level{At: l.At, Waiting: now.Waiting + l.Waiting, InFlight: now.InFlight + l.InFlight,
			Starting: now.Starting + l.Starting, Ready: now.Ready + l.Ready}
		if i == len(all)-1 || all[i+1].At > l.At {
			out = append(out, now)
		}
	}
	return out
}

// CalmWith returns the calm scene with a change.
func CalmWith(change func(*Scene)) Scene {
	s := Calm()
	change(&s)
	return s
}
