package engine

import (
	"slices"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// load is an engine with invocations in flight.
type load struct {
	e      *Engine
	fx     Effects
	flying []Effect
	now    clock.Time
}

func (x *load) handle(in Input) {
	x.now += 100
	x.fx.Reset()
	x.e.Handle(x.now, in, &x.fx)
	for i := range x.fx.List {
		if x.fx.List[i].Kind == Send {
			x.flying = append(x.flying, x.fx.List[i])
		}
	}
}

// answer answers an invocation, not always the oldest.
func (x *load) answer() {
	f := x.flying[0]
	x.flying[0] = x.flying[len(x.flying)-1]
	x.flying = x.flying[:len(x.flying)-1]
	x.handle(Input{Kind: Answered, Instance: f.Instance, Slot: f.Slot, Invocation: f.Invocation, Status: 200})
}

// BenchmarkInputs feeds arrivals and answers to 1,000 busy instances with
// 10,000 messages waiting.
func BenchmarkInputs(b *testing.B) {
	p := plan.Project{Concurrency: 2000,
		Functions: []plan.Function{{Name: "f", Timeout: time.Minute, StartTimeout: time.Minute,
			Limits: plan.Limits{Max: 1000, PerInstance: 1, IdleAfter: time.Minute}}},
		Sources: []plan.Source{{Name: "q", Kind: plan.Queue, BatchMax: 1, Attempts: 3, Lease: time.Minute,
			DeadLetter: -1, Wires: []plan.Wire{{}}}}}
	x := &load{e: New(&p, []plan.Limits{p.Functions[0].Limits}, time.Second)}
	for range 11_000 {
		x.handle(Input{Kind: Arrived, Routes: 1})
	}
	for id := range int32(1000) {
		x.handle(Input{Kind: Ready, Instance: id})
	}
	if len(x.flying) != 1000 {
		b.Fatalf("%d in flight", len(x.flying))
	}
	b.ReportAllocs()
	b.ResetTimer()
	for i := range b.N {
		if i%2 == 0 {
			x.handle(Input{Kind: Arrived, Routes: 1})
			continue
		}
		x.answer()
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "inputs/s")
}

// BenchmarkAllKinds feeds all five kinds of sources to busy functions, with few
// or many partitions and with little or much waiting: what waits must not make
// an input cost twice as much.
func BenchmarkAllKinds(b *testing.B) {
	for _, c := range []struct {
		name                string
		partitions, waiting int
	}{{"1-partition/10-waiting", 1, 10}, {"64-partitions/10-waiting", 64, 10}, {"1-partition/10000-waiting", 1, 10_000},
		{"64-partitions/10000-waiting", 64, 10_000}} {
		b.Run(c.name, func(b *testing.B) {
			limits := plan.Limits{Max: 80, PerInstance: 1, IdleAfter: time.Minute}
			to := []plan.Wire{{To: 0}}
			p := plan.Project{Concurrency: 2000,
				Functions: []plan.Function{{Name: "f", Timeout: time.Minute, StartTimeout: time.Minute,
					Limits: limits}},
				Sources: []plan.Source{
					{Name: "h", Kind: plan.HTTP, Wires: to, Wait: time.Hour, DeadLetter: -1},
					{Name: "q", Kind: plan.Queue, Wires: to, BatchMax: 1, Attempts: 3, Lease: time.Minute,
						MaxAge: time.Hour, Key: "group", DeadLetter: -1},
					{Name: "b", Kind: plan.Storage, Wires: to, Attempts: 3, DeadLetter: -1},
					{Name: "s", Kind: plan.Stream, Wires: to, BatchMax: 100, Partitions: c.partitions, Attempts: 3,
						DeadLetter: -1},
					{Name: "t", Kind: plan.Schedule, Wires: to, WhileRunning: plan.Parallel, Attempts: 1,
						DeadLetter: -1},
				}}
			x := &load{e: New(&p, []plan.Limits{limits}, time.Second)}
			n := 0
			arrive := func() {
				n++
				in := Input{Kind: Arrived, Source: int32(n % 5), Routes: 1}
				switch in.Source {
				case 1:
					in.Key = int32(n % 512)
				case 3:
					in.Key = int32(n%c.partitions) + 1
				}
				x.handle(in)
			}
			for range limits.Max {
				arrive()
			}
			for range c.waiting {
				arrive()
			}
			for id := range len(x.e.instances) {
				x.handle(Input{Kind: Ready, Instance: int32(id)})
			}
			b.ReportAllocs()
			b.ResetTimer()
			for i := range b.N {
				if i%2 == 0 || len(x.flying) == 0 {
					arrive()
					continue
				}
				x.answer()
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "inputs/s")
		})
	}
}

// BenchmarkInstances returns how much more an input costs with 1,000 instances than
// with 10, half of them idle, one in fifty of them gone at times and another
// started: in turns, the median of nine pairs.
func BenchmarkInstances(b *testing.B) {
	prepare := func(n int) *load {
		limits := plan.Limits{Max: n, PerInstance: 1, IdleAfter: time.Minute}
		p := plan.Project{Concurrency: 2 * n,
			Functions: []plan.Function{{Name: "f", Timeout: time.Minute, StartTimeout: time.Minute, Limits: limits}},
			Sources:   []plan.Source{{Name: "h", Kind: plan.HTTP, DeadLetter: -1, Wires: []plan.Wire{{}}}}}
		x := &load{e: New(&p, []plan.Limits{limits}, time.Second)}
		for range n {
			x.handle(Input{Kind: Arrived, Routes: 1})
		}
		for id := range int32(n) {
			x.handle(Input{Kind: Ready, Instance: id})
		}
		for range n / 2 {
			x.answer()
		}
		return x
	}
	few, many := prepare(10), prepare(1000)
	spend := func(x *load, n int) time.Duration {
		began := time.Now()
		for i := range n {
			switch {
			case i%100 == 99 && len(x.flying) > 0: // one goes, and the next arrival has another started
				f := x.flying[0]
				x.flying = x.flying[1:]
				x.handle(Input{Kind: Exited, Instance: f.Instance})
			case i%100 == 98:
				for len(x.e.functions[0].starting) > 0 {
					x.handle(Input{Kind: Ready, Instance: x.e.functions[0].starting[0]})
				}
			case i%2 == 0:
				x.handle(Input{Kind: Arrived, Routes: 1})
			case len(x.flying) > 0:
				x.answer()
			}
		}
		return time.Since(began)
	}
	var ratios []float64
	for range 9 {
		n := max(b.N/18, 1000)
		a, c := spend(few, n), spend(many, n)
		ratios = append(ratios, float64(c)/float64(a))
	}
	slices.Sort(ratios)
	b.ReportMetric(ratios[4], "of-10-instances")
}
