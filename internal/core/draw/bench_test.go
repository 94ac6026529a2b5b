package draw

import (
	"fmt"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
)

// large makes a run of n invocations on 40 instances.
func large(n int) *record.Run {
	r := rng.New(1, 1)
	run := &record.Run{Functions: []record.Function{{Name: "f", PerInstance: 1}},
		Sources: []record.Source{{Name: "s", To: []int{0}}}}
	for i := range 40 {
		run.Instances = append(run.Instances, record.Instance{ID: int32(i), Number: int32(i + 1), Ready: ms(100)})
	}
	at := ms(100)
	for i := range n {
		at = at.Add(time.Millisecond)
		run.Arrivals = append(run.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1})
		run.Invocations = append(run.Invocations, record.Invocation{ID: uint64(i + 1), Instance: int32(r.Below(40)),
			Assigned: at - clock.Time(r.Exp(5*time.Millisecond)), Done: at, Status: 200, Batch: 1})
		run.Attempts = append(run.Attempts, record.Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1})
		run.Deliveries = append(run.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1), Ended: at,
			Attempts: 1})
	}
	run.Length = at
	return run
}

// BenchmarkFrame draws the lanes of 40 instances, at several scales.
func BenchmarkFrame(b *testing.B) {
	for _, n := range []int{100_000, 1_000_000} {
		run := large(n)
		var c Chart
		c.Update(run)
		for _, part := range []clock.Time{1, 100, 10_000} {
			b.Run(fmt.Sprintf("%d invocations, 1/%d of the time", n, part), func(b *testing.B) {
				w := Window{run.Length / 2, run.Length/2 + run.Length/2/part, 130}
				for b.Loop() {
					for _, l := range c.Lanes() {
						c.Row(l, w, run.Length)
					}
					c.Counts(Arrived, 0, w)
				}
			})
		}
	}
}

// BenchmarkIndex takes in a run of a million invocations.
func BenchmarkIndex(b *testing.B) {
	run := large(1_000_000)
	for b.Loop() {
		var c Chart
		c.Update(run)
	}
}
