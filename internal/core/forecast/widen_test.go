package forecast

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/rng"
)

// However far off forecasts are, intervals that reach as far as those before needed hold 95 % of what comes next.
func TestIntervalsReachAsFarAsWasNeeded(t *testing.T) {
	const rounds = 4000
	for _, n := range []int{19, 39, 100} {
		held := 0
		for seed := range uint64(rounds) {
			r := rng.New(seed, 1)
			draw := func() float64 { return 0.8 + float64(r.Exp(time.Second))/float64(time.Second) }
			needed := make([]float64, n)
			for i := range needed {
				needed[i] = draw()
			}
			if draw() <= Reach(needed) {
				held++
			}
		}
		if share := float64(held) / rounds; share < 0.94 || share > 0.97 {
			t.Errorf("of %d: %.3f are held", n, share)
		}
	}
	for want, needed := range map[float64][]float64{1: slices.Repeat([]float64{3}, 18), 3: slices.Repeat([]float64{3},
		19), 100: slices.Repeat([]float64{1e9}, 40)} {
		if got := Reach(needed); got != want {
			t.Errorf("Reach of %d times %v is %v", len(needed), needed[0], got)
		}
	}
	if Reach(slices.Repeat([]float64{0.5}, 40)) != 1 {
		t.Error("intervals that were too wide are not made narrower: what simulations differ by is certain")
	}
}

// What is learnt of a forecast does not depend on how wide its intervals were made.
func TestWidened(t *testing.T) {
	b := world{n: 2000, rate: 200, wait: 300 * time.Millisecond, service: exponential(10 * time.Millisecond)}.base(t)
	b.Run.Budgets = []string{"function f warm p95 < 1s", "source s rejected == 0"}
	b.Limits[0].KeepWarm = 0
	try, err := ParseTry("f.max=4")
	if err != nil {
		t.Fatal(err)
	}
	f := forecastOf(t, b, Order{Seeds: 6, Tries: []Try{try}})
	live := b.Simulate(Setting{Limits: f.Cells[0].Setting, Seed: 99})
	f.Verify(0, live)
	before, was := f.Verified.Needed["f"], f.Cells[0].Functions["f"].Latency.Warm
	budgets := slices.Clone(f.Cells[0].Budgets)
	f.Widen(map[string]float64{"f": 2.5, "gone": 3})
	f.Verify(0, live)
	if len(before) == 0 || !slices.EqualFunc(before, f.Verified.Needed["f"],
		func(a, b float64) bool { return math.Abs(a-b) < 1e-9 }) {
		t.Errorf("needed %v, and %v of the same, widened", before, f.Verified.Needed["f"])
	}
	if is := f.Cells[0].Functions["f"].Latency.Warm; *is.P95Lo != *was.P95Lo/2.5 || *is.P95Hi != *was.P95Hi*2.5 ||
		*is.P95 != *was.P95 {
		t.Errorf("%+v", is)
	}
	if is := f.Cells[0].Budgets; *is[0].Hi != *budgets[0].Hi*2.5 || *is[1].Hi != *budgets[1].Hi {
		t.Errorf("budgets %+v, were %+v", is, budgets)
	}
	why := "a reason"
	f.Cells[0].Refused = &why
	if f.Verify(0, live); len(f.Verified.Needed) > 0 {
		t.Error("what was refused teaches how wide intervals have to be")
	}
	if s := f.Spread(); !strings.Contains(s, "live needed: for f by a factor of 2.5.") {
		t.Error(s)
	}
}
