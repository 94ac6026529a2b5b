package stats

import (
	"math"
	"math/rand/v2"
	"time"
)

// processes are ways for samples to follow each other. All but the first have a
// first-order autocorrelation of 0.7; each gives numbers that are uniform from 0 to 1.
var processes = map[string]func(n int, r *rand.Rand) []float64{
	"independent": func(n int, r *rand.Rand) []float64 {
		return each(n, func(int) float64 { return r.Float64() })
	},
	"normal AR(1)": func(n int, r *rand.Rand) []float64 {
		x := r.NormFloat64()
		return each(n, func(int) float64 {
			x = 0.7*x + math.Sqrt(1-0.7*0.7)*r.NormFloat64()
			return math.Erfc(-x/math.Sqrt2) / 2
		})
	},
	"repeats": func(n int, r *rand.Rand) []float64 { // seven of ten are as the one before
		x := r.Float64()
		return each(n, func(int) float64 {
			if r.Float64() > 0.7 {
				x = r.Float64()
			}
			return x
		})
	},
	"exponential AR(1)": func(n int, r *rand.Rand) []float64 { // Gaver and Lewis 1980
		x := r.ExpFloat64()
		return each(n, func(int) float64 {
			x *= 0.7
			if r.Float64() < 0.3 {
				x += r.ExpFloat64()
			}
			return 1 - math.Exp(-x)
		})
	},
}

func each(n int, of func(i int) float64) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = of(i)
	}
	return out
}

// shapes turn numbers from 0 to 1 into durations, in seconds.
var shapes = map[string]func(u float64) float64{
	"exponential": func(u float64) float64 { return -math.Log(1 - u) },
	"lognormal":   lognormal,
	"bimodal": func(u float64) float64 { // a quarter takes ten times as long
		if u < 0.75 {
			return 0.2 * lognormal(u/0.75)
		}
		return 2 * lognormal((u-0.75)/0.25)
	},
}

func lognormal(u float64) float64 { return math.Exp(-0.3 * math.Sqrt2 * math.Erfcinv(2*u)) }

// sample returns a population of a process and a shape, so many times as long.
func sample(process, shape string, n int, times float64, r *rand.Rand) *Population {
	p := &Population{}
	for _, u := range processes[process](n, r) {
		p.Add(time.Duration(1e9 * times * shapes[shape](u)))
	}
	return p
}

func samplingOf(process string) Sampling {
	if process == "independent" {
		return Independent
	}
	return Serial
}
