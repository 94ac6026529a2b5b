package engine

import (
	"testing"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/plan"
)

// BenchmarkInputs feeds arrivals and answers to 1,000 busy instances with
// 10,000 messages waiting.
func BenchmarkInputs(b *testing.B) {
	p := plan.Project{Concurrency: 2000,
		Functions: []plan.Function{{Name: "f", Timeout: time.Minute, StartTimeout: time.Minute, Limits: plan.Limits{Max: 1000, PerInstance: 1, IdleAfter: time.Minute}}},
		Sources:   []plan.Source{{Name: "q", Kind: plan.Queue, BatchMax: 1, Attempts: 3, Lease: time.Minute, DeadLetter: -1, Wires: []plan.Wire{{}}}}}
	e := New(&p, []plan.Limits{p.Functions[0].Limits}, time.Second)
	var fx Effects
	var flying []Effect
	now := clock.Time(0)
	handle := func(in Input) {
		now += 100
		fx.Reset()
		e.Handle(now, in, &fx)
		for i := range fx.List {
			if fx.List[i].Kind == Send {
				flying = append(flying, fx.List[i])
			}
		}
	}
	for range 11_000 {
		handle(Input{Kind: Arrived, Takes: 1})
	}
	for id := range int32(1000) {
		handle(Input{Kind: Ready, Instance: id})
	}
	if len(flying) != 1000 {
		b.Fatalf("%d in flight", len(flying))
	}
	b.ReportAllocs()
	b.ResetTimer()
	for i := range b.N {
		if i%2 == 0 {
			handle(Input{Kind: Arrived, Takes: 1})
			continue
		}
		f := flying[0]
		flying[0] = flying[len(flying)-1]
		flying = flying[:len(flying)-1]
		handle(Input{Kind: Answered, Instance: f.Instance, Slot: f.Slot, Invocation: f.Invocation, Status: 200})
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "inputs/s")
}
