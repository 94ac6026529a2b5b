package drillview

import (
	"fmt"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
)

// BenchmarkView draws the whole view of a run with 40 instances, at 160 x 47,
// with the cursor on an invocation.
func BenchmarkView(b *testing.B) {
	for _, n := range []int{1000, 100_000, 1_000_000} {
		b.Run(fmt.Sprintf("%d invocations", n), func(b *testing.B) {
			r := &record.Run{ID: "x", Functions: []record.Function{{Name: "f", PerInstance: 1}},
				Sources: []record.Source{{Name: "s", To: []int{0}}},
				Length:  clock.Time(n) * clock.Time(time.Millisecond)}
			for i := range 40 {
				r.Instances = append(r.Instances, record.Instance{ID: int32(i), Number: int32(i + 1), Spawned: 1,
					Ready: 2})
			}
			for i := range n {
				at := clock.Time(i) * clock.Time(time.Millisecond)
				r.Arrivals = append(r.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1})
				r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(i + 1), Instance: int32(i % 40),
					Assigned: at, Sent: at, Done: at + 700_000, Status: 200, Batch: 1})
				r.Attempts = append(r.Attempts, record.Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1})
				r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1),
					Attempts: 1})
			}
			m := New(&plan.Project{}, nil)
			m.Resize(160, 43)
			m.Show(r)
			m.moveLane(m.chart.Lanes(), 0)
			for b.Loop() {
				_ = m.Draw(theme).String()
			}
		})
	}
}
