package forecast

import (
	"math"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	events "nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

// callers makes the traffic of a base a number of callers, who send one payload again and again.
func (b *Base) callers(n int, d time.Duration) *plan.Drill {
	b.Project.Sets = []payload.Set{{Name: "p", Payloads: []payload.Payload{{Request: &events.Request{Method: "GET",
		Target: "/"}}}}}
	b.Project.Sources[0].Kind = plan.HTTP
	return &plan.Drill{Name: "callers", Seed: 1, Feeds: []plan.Feed{{Set: 0, Phases: []arrival.Phase{
		{Pattern: arrival.Callers, Size: n, For: d}}}}}
}

// Callers send again when they have their replies: as many replies as the instances can make, or the callers can wait
// for, and a rejected one comes back after the pause that it is told.
func TestCallersWait(t *testing.T) {
	for _, x := range []struct {
		callers, max int
		wait         time.Duration
		want         float64 // events in 10 s
	}{
		{1, 4, time.Minute, 1000},
		{8, 4, time.Minute, 4000},
		{20, 2, time.Minute, 2000},
		// two of three are taken and come back after 10 ms, the third after a second
		{3, 2, 0, 2010},
	} {
		b := world{n: 500, rate: 100, wait: x.wait, service: fixed(10 * time.Millisecond)}.base(t)
		d := b.callers(x.callers, 10*time.Second)
		r, err := b.SimulateTraffic(Setting{Limits: b.with(func(l *plan.Limits) { l.Max, l.KeepWarm = x.max, x.max }),
			Seed: 1}, Traffic{Drill: d})
		if err != nil {
			t.Fatal(err)
		}
		if got := float64(len(r.Arrivals)); math.Abs(got/x.want-1) > 0.02 {
			t.Errorf("%d callers and %d instances: %v events, want %v", x.callers, x.max, got, x.want)
		}
		twice, err := b.SimulateTraffic(Setting{Limits: b.Limits, Seed: 1}, Traffic{Drill: d, Times: 2,
			For: 20 * time.Second})
		if want := 4000 * x.callers; err != nil || math.Abs(float64(len(twice.Arrivals))/float64(want)-1) > 0.02 {
			t.Errorf("twice %d callers for twice as long: %d events, want %d (%v)", x.callers, len(twice.Arrivals),
				want,
				err)
		}
	}
}

// Traffic that the run does not tell of is refused with the reason.
func TestTrafficOfAnotherDrill(t *testing.T) {
	b := world{n: 500, rate: 100, service: fixed(10 * time.Millisecond)}.base(t)
	d := b.callers(1, time.Second)
	for i := range b.events {
		b.events[i].takes = 2
	}
	if _, err := b.newOffers(Traffic{Drill: d}); err == nil || !strings.Contains(err.Error(),
		"no event of s that went") {
		t.Error(err)
	}
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Once}}
	b.events[0].takes = 1
	if _, err := b.newOffers(Traffic{Drill: d, For: time.Hour}); err == nil || !strings.Contains(err.Error(),
		"repeat") {
		t.Error(err)
	}
	d.Feeds[0].Faults.Duplicate = fault.Whole
	if _, err := b.newOffers(Traffic{Drill: d}); err == nil || !strings.Contains(err.Error(), "faults") {
		t.Error(err)
	}
}

// A long simulation, which keeps no records, has the figures of the records.
func TestLongSimulationsHaveTheSameFigures(t *testing.T) {
	b := world{n: 3000, rate: 200, wait: 20 * time.Millisecond, service: exponential(10 * time.Millisecond)}.base(t)
	b.Run.Rates = &plan.Rates{Currency: "EUR", GiBSecond: 1, Request: 0.001, Billed: plan.BilledPhases,
		RoundUp: time.Millisecond}
	b.Run.Budgets = []string{"function f warm p95 < 50ms", "source s rejected < 10%", "project all wait p50 < 1ms",
		"function f cost < 1000", "function f started <= 2", "function f cold >= 1", "project done > 1/s",
		"source s service max < 1s", "function f status 2xx > 99%", "function f start p50 < 1s"}
	for _, l := range []plan.Limits{{Max: 2, PerInstance: 1, IdleAfter: 20 * time.Millisecond},
		{Max: 2, PerInstance: 2, KeepWarm: 1, IdleAfter: time.Second}} {
		s := Setting{Limits: b.with(func(x *plan.Limits) { *x = l }), Seed: 3}
		o, err := b.newOffers(Traffic{})
		if err != nil {
			t.Fatal(err)
		}
		want := measure.Analyze(b.simulate(s, o, false).run()).Summary
		x := b.simulate(s, o, true)
		x.run()
		got := x.figures.Summary()
		f, g := want.Functions["f"], got.Functions["f"]
		if f.Outcomes != g.Outcomes || f.Instances != g.Instances || f.Attempts != g.Attempts ||
			math.Abs(*f.Resources.Held/(*g.Resources.Held)-1) > 1e-6 || math.Abs(f.Cost.Total/g.Cost.Total-1) > 1e-6 {
			t.Errorf("%+v\n%+v\n%+v %+v", f, g, *f.Cost, *g.Cost)
		}
		for i, p := range []*measure.Figures{&f.Latency.Warm, &f.Latency.Cold, &f.Latency.First, &f.Service.Warm,
			&f.Start} {
			q := []*measure.Figures{&g.Latency.Warm, &g.Latency.Cold, &g.Latency.First, &g.Service.Warm, &g.Start}[i]
			if p.N != q.N {
				t.Errorf("population %d has %d samples, want %d", i, q.N, p.N)
			}
			for _, v := range [][2]*float64{{p.P50, q.P50}, {p.P95, q.P95}, {p.Max, q.Max}, {p.Mean, q.Mean}} {
				if (v[0] == nil) != (v[1] == nil) || v[0] != nil && math.Abs(*v[0]-*v[1]) > 0.002**v[0]+0.002 {
					t.Errorf("population %d: %+v, want %+v", i, *q, *p)
				}
			}
		}
		for i, v := range want.Budgets {
			w := got.Budgets[i]
			if v.Held != w.Held || v.Few != w.Few || (v.Measured == nil) != (w.Measured == nil) ||
				v.Measured != nil && math.Abs(*v.Measured-*w.Measured) > 0.002**v.Measured+0.002 {
				t.Errorf("%+v %v\nwant %+v %v", w, w.Measured, v, v.Measured)
			}
		}
	}
}

// Memory does not grow with the length of what is simulated.
func TestLongSimulationsTakeNoMemory(t *testing.T) {
	b := world{n: 2000, rate: 200, wait: time.Second, service: exponential(10 * time.Millisecond)}.base(t)
	used := func(d time.Duration) uint64 {
		o, err := b.newOffers(Traffic{For: d})
		if err != nil {
			t.Fatal(err)
		}
		x := b.simulate(Setting{Limits: b.with(func(l *plan.Limits) { l.Max, l.KeepWarm = 4, 0 }), Seed: 1}, o, true)
		x.run()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		runtime.KeepAlive(x)
		if n := len(x.events.all) + len(x.calls.all) + len(x.instances.all); n > 20_000 {
			t.Errorf("after %v %d values are kept", d, n)
		}
		return m.HeapAlloc
	}
	if short, long := used(30*time.Second), used(20*time.Minute); float64(long) > 1.5*float64(short) {
		t.Errorf("%d bytes after 30 s, %d after 20 min", short, long)
	}
}

// Of several runs, those that can tell a setting tell it, and what differs between them is in the intervals.
func TestSeveralRuns(t *testing.T) {
	quick := world{n: 2000, rate: 100, wait: time.Second, service: exponential(10 * time.Millisecond)}.base(t)
	slow := world{n: 2000, rate: 100, wait: time.Second, service: exponential(14 * time.Millisecond)}.base(t)
	drifts := world{n: 2000, rate: 100, wait: time.Second, service: exponential(10 * time.Millisecond)}.base(t)
	drifts.refuse("f", "", "its service time drifts")
	o := Order{Seeds: 20, Tries: []Try{{"f", "max", []string{"4"}}, {"f", "keep_warm", []string{"4"}}}}
	width := func(bases ...*Base) float64 {
		g, err := NewGrid(bases, o)
		if err != nil {
			t.Fatal(err)
		}
		for i := range g.Jobs() {
			g.Do(i, nil)
		}
		c := g.Conclude().Cells[0]
		if refused := !slices.ContainsFunc(bases, func(b *Base) bool { return b.Refusals == nil }); refused !=
			(c.Refused != nil) {
			t.Errorf("of %d runs: %v", len(bases), c.Refused)
		}
		l := c.Functions["f"].Latency.Warm
		return *l.P50Hi - *l.P50Lo
	}
	one, two, three := width(quick), width(quick, slow), width(quick, drifts)
	width(drifts)
	if two < 2*one || three > 2*one {
		t.Errorf("intervals of one run %.2f ms, of two %.2f, of one beside one that drifts %.2f", one, two, three)
	}
}

// How many events a second are simulated where their records are not kept, over a long time.
func BenchmarkLong(b *testing.B) {
	base := world{n: 10_000, rate: 300, wait: time.Second, service: exponential(10 * time.Millisecond)}.base(b)
	n := 0.0
	for b.Loop() {
		o, err := base.newOffers(Traffic{For: time.Hour})
		if err != nil {
			b.Fatal(err)
		}
		base.simulate(Setting{Limits: base.with(func(l *plan.Limits) { l.Max, l.KeepWarm = 6, 2 }), Seed: 1}, o,
			true).run()
		n += o.events()
	}
	b.ReportMetric(n/b.Elapsed().Seconds(), "events/s")
}
