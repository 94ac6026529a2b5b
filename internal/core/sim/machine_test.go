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

// took returns how long pieces of work take that begin at some times, in milliseconds.
func took(m *Machine, begins []int, cpu []int, of []int32) string {
	out := make([]float64, len(begins))
	next := 0
	for left := len(begins); left > 0; {
		at := m.next()
		if next < len(begins) && clock.Time(begins[next])*1e6 < at {
			m.add(clock.Time(begins[next])*1e6, of[next], time.Duration(cpu[next])*time.Millisecond, 0,
				engine.Input{Instance: int32(next)})
			next++
			continue
		}
		if j, ok := m.finish(at); ok {
			out[j.input.Instance] = float64(at)/1e6 - float64(begins[j.input.Instance])
			left--
		}
	}
	text := ""
	for _, v := range out {
		text += fmt.Sprintf("%g ", math.Round(v*100)/100)
	}
	return text
}

// Processors are shared alike, each piece of work gets at most one and at most what its function may use, and what is
// not used is left to the others.
func TestProcessorsAreShared(t *testing.T) {
	none := []int32{0, 0, 0, 0}
	for _, c := range []struct {
		name       string
		m          Machine
		begin, cpu []int
		of         []int32
		want       string
	}{
		{"alone", Machine{Cores: 2}, []int{0}, []int{10}, none, "10 "},
		{"two on two", Machine{Cores: 2}, []int{0, 0}, []int{10, 20}, none, "10 20 "},
		{"four on two", Machine{Cores: 2}, []int{0, 0, 0, 0}, []int{10, 10, 10, 10}, none, "20 20 20 20 "},
		// two share one from 5 on: the first has 5 left, takes 10 more
		{"one comes later", Machine{Cores: 1}, []int{0, 5}, []int{10, 10}, none, "15 15 "},
		{"a bound", Machine{Cores: 2, Caps: []float64{0.5}}, []int{0}, []int{10}, none, "20 "},
		// the bounded one gets 0.25, and the other what is left: 0.75, and then all
		{"what is not used", Machine{Cores: 1, Caps: []float64{0.25, 0}}, []int{0, 0}, []int{10, 30}, []int32{0, 1},
			"40 40 "},
		{"others", Machine{Cores: 2, Others: func(clock.Time) float64 { return 3 }}, []int{0}, []int{100}, none,
			"200 "},
		{"others that come", Machine{Cores: 1, Others: func(at clock.Time) float64 {
			if at >= clock.Time(100*time.Millisecond) {
				return 1
			}
			return 0
		}}, []int{0}, []int{150}, none, "200 "},
	} {
		if got := took(&c.m, c.begin, c.cpu, c.of); got != c.want {
			t.Errorf("%s: took %sms, want %s", c.name, got, c.want)
		}
	}
}

// Processor sharing has the mean of theory (M/M/1-PS, which is that of M/M/1): the engine over one processor.
func TestProcessorSharing(t *testing.T) {
	limits := plan.Limits{Max: 500, PerInstance: 500, KeepWarm: 1, IdleAfter: time.Hour}
	p := &plan.Project{Concurrency: 1000, Functions: []plan.Function{{Name: "f", Timeout: 1000 * time.Hour,
		StartTimeout: time.Hour, Limits: limits}}, Sources: []plan.Source{{Name: "s", Wires: []plan.Wire{{}},
		DeadLetter: -1}}}
	const n = 200_000
	rho := 0.6
	gaps, works := rng.New(1, 1), rng.New(1, 2)
	at, left := clock.Time(time.Second), n
	began := map[uint64]clock.Time{}
	var sum float64
	s := &Simulation{Project: p, Limits: []plan.Limits{limits}, Settle: time.Hour, Machine: &Machine{Cores: 1},
		Start:  func(*engine.Effect) Work { return Work{} },
		Invoke: func(*engine.Effect, []int64) Work { return Work{CPU: works.Exp(service), Status: 200} },
		Peek:   func() (clock.Time, bool) { return at, left > 0 },
		Take: func() (Arrival, bool) {
			a := Arrival{Due: at, Takes: 1}
			at, left = at.Add(gaps.Exp(time.Duration(float64(service)/rho))), left-1
			return a, true
		},
		Visit: func(f *engine.Effect, _ []int64) {
			switch f.Kind {
			case engine.Send:
				began[f.Invocation] = f.At
			case engine.AttemptEnded:
				sum += float64(f.At - began[f.Invocation])
				delete(began, f.Invocation)
			}
		}}
	s.Run()
	if mean, want := sum/n, float64(service)/(1-rho); math.Abs(mean/want-1) > 0.03 {
		t.Errorf("mean %v, want %v", time.Duration(mean), time.Duration(want))
	}
}
