package draw

import (
	"math"
	"testing"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
)

// An axis holds its values, its ends are round, and its ticks are round values in
// their places.
func TestAxes(t *testing.T) {
	for seed := range uint64(500) {
		r := rng.New(seed, 1)
		value := func() float64 { return math.Pow(10, float64(r.Below(9000))/1000-4) }
		lo, hi := value(), value()
		if lo > hi {
			lo, hi = hi, lo
		}
		for _, a := range []Axis{Linear(hi), Logarithmic(lo, hi)} {
			if a.Hi < hi*(1-1e-9) || a.Log && a.Lo > lo*(1+1e-9) || a.At(hi) > 1 || a.At(lo) < 0 {
				t.Fatalf("seed %d: %v to %v on %+v", seed, lo, hi, a)
			}
			if v := a.Value(a.At(hi)); math.Abs(v-hi) > hi*1e-9 {
				t.Fatalf("seed %d: %v comes back as %v", seed, hi, v)
			}
			ticks := a.Ticks()
			if len(ticks) < 2 || len(ticks) > 14 {
				t.Fatalf("seed %d: %d ticks on %+v", seed, len(ticks), a)
			}
			for i, k := range ticks {
				digits := k.Value / math.Pow(10, math.Floor(math.Log10(k.Value)+1e-9))
				if i > 0 && k.At <= ticks[i-1].At || math.Abs(k.At-a.At(k.Value)) > 1e-9 || k.Value > 0 &&
					math.Abs(digits-math.Round(digits*10)/10) > 1e-6 {
					t.Fatalf("seed %d: tick %v of %+v", seed, k, a)
				}
			}
		}
	}
	for got, want := range map[string]string{Short(0.5): "0.5", Short(20_000): "20 k", Short(3e6): "3 M",
		ShortMillis(0.02): "20 µs", ShortMillis(150): "150 ms", ShortMillis(2500): "2.5 s", ShortMillis(0): "0 µs"} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if a := Logarithmic(0, 0); a.At(5) < 0 || a.At(5) > 1 || (Axis{}).At(1) != 0 || Linear(0).Hi != 1 {
		t.Errorf("of nothing: %+v", a)
	}
}

// The rungs of the ladder stand on each other, and own phases stay within the answer.
func TestLadder(t *testing.T) {
	f := func(p50 float64) measure.Figures {
		lo, hi := p50*0.9, p50*1.1
		return measure.Figures{N: 20, P50: &p50, P50Lo: &lo, P50Hi: &hi}
	}
	p := &report.Page{Functions: []string{"quote", "rare", "attached"},
		Summary: &measure.Summary{Functions: map[string]measure.FunctionFigures{
			"quote": {Start: f(100), Phases: measure.PhaseFigures{Spawn: f(2), Boot: f(98), Answer: f(30),
				Own: []measure.OwnPhase{{Name: "tables", Took: f(20)}, {Name: "rest", Took: f(9)},
					{Name: "too much", Took: f(90)}}}},
			"rare":     {Start: measure.Figures{N: 2}},
			"attached": {},
		}}}
	rungs := Ladder(p)
	if len(rungs) != 2 || len(rungs[1].Parts) != 0 || rungs[1].N != 2 {
		t.Fatalf("%+v", rungs)
	}
	q := rungs[0]
	at := 0.0
	for _, part := range q.Parts {
		if part.From != at || part.To < part.From || part.Lo > part.To-part.From || part.Hi < part.To-part.From {
			t.Errorf("part %+v begins not at %v", part, at)
		}
		at = part.To
	}
	if q.Total != 130 || len(q.Own) != 2 || q.Own[0].From != 100 || q.Own[1].To != 129 {
		t.Errorf("%+v", q)
	}
}
