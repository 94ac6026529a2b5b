package draw

import (
	"math"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
)

// Distribution is where the durations of a population lie.
type Distribution struct {
	Function, What string // what is start, cold, first, warm or retried
	Class          engine.Class
	Of             *measure.Spread
	Figures        measure.Figures
}

// Distributions returns the populations of a page, function by function, and the axis in milliseconds that
// they share: from a power of ten to a power of ten, at least a hundred times apart.
func Distributions(p *report.Page) (rows []Distribution, axis Axis) {
	lo, hi := math.Inf(1), 0.0
	for fn, name := range p.Functions {
		f, s := p.Summary.Functions[name], &p.Spreads[fn]
		for _, d := range []Distribution{
			{name, "start", engine.Cold, &s.Start, f.Start},
			{name, "cold", engine.Cold, &s.Latency[engine.Cold], f.Latency.Cold},
			{name, "first", engine.First, &s.Latency[engine.First], f.Latency.First},
			{name, "warm", engine.Warm, &s.Latency[engine.Warm], f.Latency.Warm},
			{name, "retried", engine.Warm, &s.Retried, f.Latency.Retried},
		} {
			if n := len(d.Of.Counts); d.Figures.N > 0 && n > 0 {
				rows = append(rows, d)
				lo = min(lo, figure.Milliseconds(d.Of.Low(0)))
				hi = max(hi, figure.Milliseconds(d.Of.Low(n)))
			}
		}
	}
	return rows, Decades(lo, hi)
}

// Decades returns a logarithmic axis from the power of ten below the least value to the one above the most,
// at least a hundred times apart.
func Decades(least, most float64) Axis {
	if least <= 0 || math.IsInf(least, 0) {
		return Axis{1, 100, true}
	}
	lo, hi := math.Floor(math.Log10(least)+1e-9), math.Ceil(math.Log10(most)-1e-9)
	return Axis{math.Pow(10, lo), math.Pow(10, max(hi, lo+2)), true}
}

// Curve is how a function warms up: service time by the n-th invocation of an instance.
type Curve struct {
	Function string
	WarmUp   measure.WarmUp
	Axis     Axis // of the times, in milliseconds
	Longest  int  // the last n
}

// Curves returns the curves of all functions with at least so many points.
func Curves(p *report.Page, points int) (out []Curve) {
	for _, name := range p.Functions {
		w := p.Summary.Functions[name].WarmUp
		if len(w.Points) < points {
			continue
		}
		lo, hi, most := math.Inf(1), 0.0, 2
		for _, q := range w.Points {
			lo, hi, most = min(lo, max(q.P25, leastShown)), max(hi, q.P75), max(most, q.To)
		}
		out = append(out, Curve{name, w, Logarithmic(lo, hi), most})
	}
	return out
}

// leastShown is the shortest time on a logarithmic axis, in milliseconds.
const leastShown = 1e-3

// Course is how the latency of a function went over time.
type Course struct {
	Function string
	Number   int // among the functions of the run
	Of       *measure.FunctionTime
	Axis     Axis // of the latencies, in milliseconds
}

// Courses returns the courses of the functions that had replies.
func Courses(p *report.Page) (out []Course) {
	if p.Time == nil || p.Time.Step == 0 {
		return nil
	}
	for fn, name := range p.Functions {
		f := &p.Time.Functions[fn]
		lo, hi := math.Inf(1), 0.0
		for k := range f.Done {
			if f.Done[k] > 0 {
				lo = min(lo, max(figure.Milliseconds(f.P50[k]), leastShown))
				hi = max(hi, figure.Milliseconds(f.Max[k]))
			}
		}
		if hi > 0 {
			out = append(out, Course{name, fn, f, Logarithmic(lo, hi)})
		}
	}
	return out
}

// Figure is a figure of the sides of a comparison, on an axis of its own.
type Figure struct {
	report.Row
	Axis Axis
}

// FigureOf returns a row of a comparison with the axis around all of its values and intervals.
func FigureOf(r report.Row) Figure {
	lo, hi := math.Inf(1), 0.0
	for i, v := range r.Values {
		if v == nil {
			continue
		}
		lo, hi = min(lo, *v), max(hi, *v)
		if i < len(r.Between) && r.Between[i][0] != nil {
			lo, hi = min(lo, *r.Between[i][0]), max(hi, *r.Between[i][1])
		}
	}
	if math.IsInf(lo, 0) {
		lo, hi = 1, 10
	}
	return Figure{r, Logarithmic(max(lo*0.95, 1e-6), hi*1.05)}
}
