// Package recordtest makes runs for tests: by hand, of a seed, and by a simulated scene.
package recordtest

import (
	"math"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
)

// History is a run that nothing has planned: any outcome, class, status and time.
func History(seed uint64) *record.Run {
	r := rng.New(seed, 5)
	n := 40 + r.Below(200)
	run := &record.Run{ID: "h", Finished: r.Chance(1, 2), Length: At(20_000), Busy: math.NaN(), Concurrency: 8,
		Functions: []record.Function{{Name: "f", Max: 3, PerInstance: 2, Memory: 64 << 20},
			{Name: "f@b", Max: 2, PerInstance: 1}, {Name: "g", Max: 1, PerInstance: 1, OneShot: r.Chance(1, 3)}},
		Sources: []record.Source{{Name: "a", Kind: "http", Routes: []string{"/", "/x"}, To: []int{0, 1}},
			{Name: "b", Kind: "queue", To: []int{2}}, {Name: "c", Kind: "stream", To: []int{0}}},
		Payloads: []record.Payload{{Set: "s", N: 1}, {Set: "s", N: 2}}}
	for in := range 12 {
		x := record.Instance{ID: int32(in), Function: int32(r.Below(3)), Number: int32(in + 1),
			Spawned: At(r.Below(5000)),
			Cause:   engine.Cause(r.Below(int(engine.Causes)))}
		if r.Chance(4, 5) {
			x.Ready = x.Spawned + At(1+r.Below(400))
			x.Exec = x.Spawned + At(r.Below(2))
		}
		if r.Chance(3, 4) {
			x.Stopped, x.Reason = max(x.Ready, x.Spawned)+At(r.Below(9000)),
				engine.Reason(r.Below(int(engine.OutOfMemory)+1))
		}
		x.Peak, x.CPU = int64(r.Below(90))<<20, time.Duration(r.Below(1e9))
		run.Instances = append(run.Instances, x)
	}
	for i := range n {
		due := At(r.Below(12_000))
		a := record.Arrival{Due: due, Arrived: due + At(r.Below(30)), From: -1, Source: int32(r.Below(3)),
			Payload: int32(r.Below(2))}
		if i > 0 && r.Chance(1, 6) {
			a.From, a.Origin = int64(r.Below(i)), engine.Origin(1+r.Below(3))
		}
		run.Arrivals = append(run.Arrivals, a)
		for wire := range run.Sources[a.Source].To {
			if a.Source == 0 && wire != i%2 || r.Chance(1, 12) {
				continue // one route; and of a run that was cut off, some have no outcome
			}
			d := record.Delivery{Event: int64(i), Source: a.Source, Wire: int32(wire),
				Outcome: engine.Outcome(r.Below(int(engine.Outcomes))), Ended: a.Arrived + At(r.Below(3000)),
				Cause: engine.Cause(r.Below(int(engine.Causes)))}
			if d.Outcome == engine.Unmatched {
				d.Wire = -1
			}
			for k := int32(1); d.Wire >= 0 && d.Outcome != engine.Rejected && int(k) <= 1+r.Below(3); k++ {
				v := record.Invocation{ID: uint64(len(run.Invocations) + 1),
					Function: int32(run.Sources[a.Source].To[wire]),
					Instance: int32(r.Below(12)), Source: a.Source, Wire: int32(wire), Batch: 1,
					Assigned: a.Arrived + At(r.Below(500)), Class: engine.Class(r.Below(3)),
					Result: engine.Result(r.Below(int(engine.Results))),
					Status: int32([]int{0, 200, 200, 404, 500}[r.Below(5)]), Unexpected: r.Chance(1, 9)}
				v.Sent = v.Assigned + At(r.Below(3))
				v.Done = v.Sent + At(r.Below(900))
				run.Invocations = append(run.Invocations, v)
				run.Attempts = append(run.Attempts, record.Attempt{Event: int64(i), Invocation: v.ID, Source: a.Source,
					Wire: int32(wire), N: k, Result: v.Result})
				d.Invocation, d.Attempts = v.ID, k
			}
			run.Deliveries = append(run.Deliveries, d)
		}
	}
	slices.SortFunc(run.Invocations, func(a, b record.Invocation) int { return int(min(max(a.Done-b.Done, -1), 1)) })
	return run
}

// Batches is a run of messages that come one every 10 ms and are dispatched in batches of
// up to ten; each message waits for its batch, and all of a batch share its service time
// and its fate.
func Batches(seed uint64, n int) *record.Run {
	r := &record.Run{ID: "r", Functions: []record.Function{{Name: "f"}},
		Sources:   []record.Source{{Name: "s", Kind: "queue", To: []int{0}}},
		Instances: make([]record.Instance, 1), Payloads: make([]record.Payload, 1)}
	rnd := rng.New(seed, 1)
	for at := clock.Time(0); len(r.Deliveries) < n; {
		size := 1 + rnd.Below(10)
		sent := at.Add(time.Duration(size) * 10 * time.Millisecond)
		id := uint64(len(r.Invocations) + 1)
		done := sent.Add(5*time.Millisecond + rnd.Exp(20*time.Millisecond))
		outcome := map[bool]engine.Outcome{true: engine.Failed}[rnd.Chance(1, 20)]
		r.Invocations = append(r.Invocations, record.Invocation{ID: id, Assigned: sent, Sent: sent, Done: done,
			Batch:  int32(size),
			Status: 200})
		for k := range size {
			due := at.Add(time.Duration(k) * 10 * time.Millisecond)
			event := int64(len(r.Arrivals))
			r.Arrivals = append(r.Arrivals, record.Arrival{Due: due, Arrived: due, From: -1})
			r.Attempts = append(r.Attempts, record.Attempt{Event: event, Invocation: id, N: 1})
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: event, Invocation: id, Ended: done, Attempts: 1,
				Outcome: outcome})
		}
		at = sent
	}
	return r
}

// At returns the moment n milliseconds after the start of a run.
func At(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }

// Fixture returns a run: one cold and one warm answer, one rejection, one message that was
// tried twice and became a dead letter, one event that never ended.
func Fixture() *record.Run {
	return &record.Run{Project: "p", Drill: "d", ID: "r", Seed: 3, Finished: false, Length: At(5000), Busy: math.NaN(),
		Functions: []record.Function{{Name: "quote", Max: 2, PerInstance: 1},
			{Name: "boarding", Max: 1, PerInstance: 1}},
		Sources: []record.Source{{Name: "fares", Kind: "http", Routes: []string{"GET /quote"}, To: []int{0}},
			{Name: "scans", Kind: "queue", To: []int{1}}},
		Budgets: []string{"function quote cold max < 150ms", "function quote warm p50 < 1s",
			"source scans dead_lettered == 0", "project arrived >= 5"},
		Arrivals: []record.Arrival{{Due: At(0), Arrived: At(1), From: -1}, {Due: At(200), Arrived: At(200), From: -1},
			{Due: At(201), Arrived: At(201), From: -1},
			{Due: At(0), Arrived: At(0), From: -1, Source: 1}, {Due: At(4990), Arrived: At(4990), From: -1}},
		Instances: []record.Instance{{ID: 0, Number: 1, Spawned: At(1), Ready: At(101), Stopped: At(4000)},
			{ID: 1, Function: 1, Number: 1, Spawned: At(0), Ready: At(10)}},
		Invocations: []record.Invocation{
			{ID: 1, Assigned: At(101), Sent: At(101), Done: At(120), Status: 200, Batch: 1, Class: engine.Cold},
			{ID: 2, Assigned: At(200), Sent: At(200), Done: At(204), Status: 200, Batch: 1, Class: engine.Warm},
			{ID: 3, Function: 1, Instance: 1, Source: 1, Assigned: At(10), Sent: At(10), Done: At(20), Status: 500,
				Batch: 1, Class: engine.Cold, Result: engine.OK},
			{ID: 4, Function: 1, Instance: 1, Source: 1, Assigned: At(120), Sent: At(120), Done: At(1120), Batch: 1,
				Class: engine.Warm, Result: engine.Timeout},
		},
		Attempts: []record.Attempt{{Event: 0, Invocation: 1, N: 1}, {Event: 1, Invocation: 2, N: 1},
			{Event: 3, Invocation: 3, Source: 1, N: 1, Result: engine.BadStatus}, {Event: 3, Invocation: 4, Source: 1,
				N: 2, Result: engine.Timeout}},
		Deliveries: []record.Delivery{{Event: 0, Invocation: 1, Attempts: 1, Outcome: engine.Done},
			{Event: 1, Invocation: 2, Attempts: 1, Outcome: engine.Done},
			{Event: 2, Outcome: engine.Rejected}, {Event: 3, Invocation: 4, Source: 1, Attempts: 2,
				Outcome: engine.DeadLettered}},
	}
}
