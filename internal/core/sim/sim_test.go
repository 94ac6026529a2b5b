package sim

import (
	"fmt"
	"math"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/rng"
)

const service = 10 * time.Millisecond

// system is c instances that are always there, fed by a Poisson process with a
// load of rho for each. wait 0 makes it a loss system.
type system struct {
	c    int
	rho  float64
	wait time.Duration
	dist Dist
}

// run returns the waits of the first attempts in seconds, in order, and the
// number of events that were rejected.
func (y system) run(n int, seed uint64) (waits []float64, lost int) {
	limits := plan.Limits{Max: y.c, PerInstance: 1, KeepWarm: y.c, IdleAfter: time.Hour}
	p := &plan.Project{Concurrency: 1000,
		Functions: []plan.Function{{Name: "f", Timeout: 1000 * time.Hour, StartTimeout: time.Hour, Limits: limits}},
		Sources:   []plan.Source{{Name: "s", Wait: y.wait, Wires: []plan.Wire{{}}, DeadLetter: -1}}}
	r := rng.New(seed, 99)
	gap := time.Duration(float64(service) / (y.rho * float64(y.c)))
	due := make([]clock.Time, 0, n)
	at := clock.Time(time.Second) // all instances are ready by then
	next := func() (Arrival, bool) {
		if len(due) == n {
			return Arrival{}, false
		}
		at = at.Add(r.Exp(gap))
		due = append(due, at)
		return Arrival{Due: at, Source: 0, Takes: 1}, true
	}
	Run(p, []plan.Limits{limits}, 100*time.Hour, []Function{{Fixed(0), y.dist}}, seed, next,
		func(f *engine.Effect, events []int64) {
			switch {
			case f.Kind == engine.Send:
				waits = append(waits, f.At.Sub(due[events[f.First]]).Seconds())
			case f.Kind == engine.Ended && f.Outcome == engine.Rejected:
				lost++
			}
		})
	return waits, lost
}

// mean returns the mean with the half width of its 95 % interval, by means of
// batches, since waits depend on each other.
func mean(x []float64) (m, half float64) {
	const batches = 30
	var means [batches]float64
	for i, v := range x {
		means[i*batches/len(x)] += v / float64(len(x)) * batches
	}
	var ss float64
	for _, b := range means {
		m += b / batches
	}
	for _, b := range means {
		ss += (b - m) * (b - m)
	}
	return m, 2.045 * math.Sqrt(ss/(batches-1)/batches) // Student's t with 29 degrees
}

// erlangB is the share lost of M/M/c/c at an offered load a.
func erlangB(c int, a float64) float64 {
	b := 1.0
	for k := 1; k <= c; k++ {
		b = a * b / (float64(k) + a*b)
	}
	return b
}

// erlangC is the share that waits in M/M/c.
func erlangC(c int, a float64) float64 {
	b, rho := erlangB(c, a), a/float64(c)
	return b / (1 - rho*(1-b))
}

// The engine in virtual time reproduces the closed formulas of queueing theory.
func TestMeanWaitsAndLosses(t *testing.T) {
	if testing.Short() {
		t.Skip("millions of events; the formulas are left to the full run")
	}
	s := service.Seconds()
	for _, y := range []system{{1, 0.5, 0, nil}, {2, 0.5, 0, nil}, {2, 0.7, 0, nil}, {5, 0.7, 0, nil},
		{1, 0.7, 0, nil}} {
		a := y.rho * float64(y.c)
		t.Run(fmt.Sprintf("M/M/%d at %v", y.c, y.rho), func(t *testing.T) {
			y.dist, y.wait = Exponential(service), 1000*time.Hour
			waits, lost := y.run(1_500_000, 7)
			check(t, waits, erlangC(y.c, a)*s/(float64(y.c)*(1-y.rho)))
			if lost > 0 {
				t.Errorf("%d were rejected", lost)
			}
		})
		t.Run(fmt.Sprintf("M/M/%d/%d at %v", y.c, y.c, y.rho), func(t *testing.T) {
			y.dist, y.wait = Exponential(service), 0
			const n = 1_000_000
			waits, lost := y.run(n, 8)
			share, want := float64(lost)/n, erlangB(y.c, a)
			if half := 3 * math.Sqrt(want/n); math.Abs(share-want) > half || half > 0.03*want {
				t.Errorf("%.5f were lost, want %.5f ± %.5f", share, want, half)
			}
			if len(waits)+lost != n {
				t.Errorf("%d dispatched and %d lost, of %d", len(waits), lost, n)
			}
		})
	}
	for _, rho := range []float64{0.5, 0.7} {
		t.Run(fmt.Sprintf("M/D/1 at %v", rho), func(t *testing.T) {
			waits, _ := system{1, rho, 1000 * time.Hour, Fixed(service)}.run(1_500_000, 9)
			check(t, waits, rho*s/(2*(1-rho)))
		})
	}
}

func check(t *testing.T, waits []float64, want float64) {
	t.Helper()
	m, half := mean(waits)
	if half > 0.03*want {
		t.Errorf("the interval ± %.2f %% would miss an error of 3 %%", 100*half/want)
	}
	if math.Abs(m-want) > 1.3*half {
		t.Errorf("mean wait %.4f ms, want %.4f ± %.4f", m*1e3, want*1e3, half*1e3)
	}
}

// The same seed gives the same run, another seed another.
func TestARunIsRepeatable(t *testing.T) {
	y := system{3, 0.9, time.Second, Sampled([]time.Duration{time.Millisecond, 20 * time.Millisecond, service})}
	a, _ := y.run(5000, 1)
	b, _ := y.run(5000, 1)
	c, _ := y.run(5000, 2)
	if fmt.Sprint(a) != fmt.Sprint(b) || fmt.Sprint(a) == fmt.Sprint(c) {
		t.Error("runs of one seed differ, or runs of two seeds are the same")
	}
}

func BenchmarkRun(b *testing.B) {
	n := max(b.N, 100)
	system{5, 0.7, 1000 * time.Hour, Exponential(service)}.run(n, 1)
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "events/s")
}
