package forecast

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"

	"nightdrill.dev/internal/core/measure"
)

// What simulations differ by is chance alone. What the machine does differently from run to run, and what the model
// does not know, shows only where forecasts are tried live. Each interval of a time has a need: the factor by which it
// would have had to reach lower and higher to hold what was measured. If the next ones are of the same kind, an
// interval that reaches as far as 95 % of the needs so far holds the next value in 95 % of cases, whatever they are
// distributed like (split conformal prediction: Vovk, Gammerman and Shafer, Algorithmic Learning in a Random World,
// 2005).

// shareHeld is the share of values that intervals hold.
const shareHeld = 0.95

// Reach returns by which factor intervals have to reach lower and higher, of what those so far had needed; 1 where
// there are fewer than 19, or they held enough as they were.
func Reach(needed []float64) float64 {
	k := int(math.Ceil(shareHeld * float64(len(needed)+1)))
	if k > len(needed) {
		return 1
	}
	return min(max(slices.Sorted(slices.Values(needed))[k-1], 1), mostReach)
}

// mostReach is a factor beyond which intervals say nothing, so that wider ones are of no use.
const mostReach = 100

// Widen lets the intervals of the times of functions reach lower and higher, by factors of at least 1.
func (f *Forecast) Widen(by map[string]float64) {
	f.Widened = map[string]float64{}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		if by[name] <= 1 {
			continue
		}
		for i := range f.Cells {
			c := &f.Cells[i]
			x, ok := c.Functions[name]
			if !ok {
				continue
			}
			f.Widened[name] = by[name]
			for _, l := range []*measure.Figures{&x.Latency.Cold, &x.Latency.First, &x.Latency.Warm, &x.Latency.Retried,
				&x.Service.Cold, &x.Service.First, &x.Service.Warm} {
				widen(&l.P50Lo, &l.P50Hi, by[name])
				widen(&l.P95Lo, &l.P95Hi, by[name])
				widen(&l.P99Lo, &l.P99Hi, by[name])
			}
			c.Functions[name] = x
			for k := range c.Budgets {
				v := &c.Budgets[k]
				b, err := measure.ParseBudget(v.Text)
				if err == nil && b.Of == "function" && b.Name == name && v.Unit == "ms" {
					widen(&v.Lo, &v.Hi, by[name])
				}
			}
		}
	}
}

func widen(lo, hi **float64, by float64) {
	if *lo == nil || *hi == nil {
		return
	}
	l, h := **lo/by, **hi*by
	*lo, *hi = &l, &h
}

// need returns by which factor an interval would have had to reach lower and higher to hold a value, and whether that
// can be said.
func need(lo, hi *float64, measured float64) (by float64, ok bool) {
	if lo == nil || hi == nil || measured <= 0 || *hi <= 0 {
		return 0, false
	}
	return max(*lo/measured, measured / *hi), true
}

// Spread returns what intervals hold, as a sentence that begins with a space; "" without any.
func (f *Forecast) Spread() string {
	if f.Seeds < fewSeeds {
		return ""
	}
	out := fmt.Sprintf(" Intervals hold 95 %% of %d simulations", f.Seeds)
	for i, name := range slices.Sorted(maps.Keys(f.Widened)) {
		sep := ", "
		if i == 0 {
			sep = "; beyond that they reach lower and higher, as forecasts that were tried live needed: for "
		}
		out += fmt.Sprintf("%s%s by a factor of %s", sep, name, strconv.FormatFloat(f.Widened[name], 'g', 3, 64))
	}
	return out + "."
}
