package measure

import (
	"fmt"
	"math"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Against compares a run with an earlier one: no median may be more than a share longer than there,
// and no larger share of deliveries may end other than done, beyond the noise. All verdicts
// together are wrong about identical code in at most one pair of runs in twenty; figures with too
// few samples on either side are left out.
func Against(now, base *record.Run, worse float64) (out []Verdict) {
	a, b := Collect(base), Collect(now)
	var p, least []float64
	judge := func(x, y *stats.Population, s stats.Sampling, what string) {
		if !stats.Enough(0.5, x.Units()) || !stats.Enough(0.5, y.Units()) {
			return
		}
		c := contrast(what, Milliseconds, x, y, s)
		if c.Ratio == nil {
			return
		}
		v := Verdict{Text: fmt.Sprintf("%s not worse than in run %s by more than %s", what, base.ID,
			figure.Percent(worse)),
			Unit: "times", Measured: c.Ratio, Lo: c.Lo, Hi: c.Hi}
		one, smallest := stats.OneSided(x, y, s, 1+worse)
		if c.Lo != nil && *c.Lo <= 1+worse {
			one = 1
		}
		out, p, least = append(out, v), append(p, one), append(least, smallest)
	}
	for i := range now.Functions {
		k := base.Function(now.Functions[i].Name)
		if k < 0 {
			continue
		}
		name := "function " + now.Functions[i].Name
		judge(&a[k].Start, &b[i].Start, stats.Independent, name+" start")
		for _, class := range []engine.Class{engine.Cold, engine.First, engine.Warm} {
			judge(&a[k].Latency[class], &b[i].Latency[class], max(samplingOf(base, class), samplingOf(now, class)),
				name+" "+class.String()+" latency")
		}
	}
	was, is := notDone(base), notDone(now)
	if was.N() > 0 && is.N() > 0 {
		before, after := shareOf(was), shareOf(is)
		v := Verdict{Text: fmt.Sprintf("project share not done, not more than in run %s", base.ID), Unit: "%"}
		share, lo, hi := 100*after.share, 100*after.lo, 100*after.hi
		v.Measured, v.Lo, v.Hi = &share, &lo, &hi
		// by how many of its own standard deviations the share is larger than allowed
		both := (after.share*float64(is.N()) + before.share*float64(was.N())) / float64(is.N()+was.N())
		spread := math.Sqrt(both * (1 - both) * (1/after.carried + 1/before.carried))
		one := 1.0
		if over := after.share - before.share*(1+worse); over > 0 && spread > 0 {
			one = math.Erfc(over/spread/math.Sqrt2) / 2
		}
		out, p, least = append(out, v), append(p, one), append(least, 0)
	}
	for i, ruling := range stats.Judge(p, least, stats.Noise) {
		out[i].Held = !ruling.Differs
	}
	if out == nil {
		need := stats.Need(0.5)
		out = append(out, Verdict{Text: "not worse than run " + base.ID, Few: true, Needs: need,
			Why: fmt.Sprintf("too few samples: nothing was measured %d times in both runs", need)})
	}
	return out
}

// notDone returns for each delivery whether it ended other than done, as 1 or 0, in the
// order of their ends. Those of one invocation share their fate.
func notDone(r *record.Run) *stats.Population {
	at := r.Index()
	p := &stats.Population{}
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		value := time.Duration(1)
		if d.Outcome == engine.Done {
			value = 0
		}
		if v := r.Invocation(at, d.Invocation); v != nil && v.Batch > 1 {
			p.AddTo(v.ID, value)
		} else {
			p.Add(value)
		}
	}
	return p
}

// shared is a share with its 95 % interval, and the number of independent samples that carry as
// much information.
type shared struct{ share, lo, hi, carried float64 }

func shareOf(p *stats.Population) (s shared) {
	for _, v := range p.InOrder() {
		s.share += float64(v) / float64(p.N())
	}
	s.carried = p.Carried(stats.Serial)
	s.lo, s.hi = wilson(s.share, s.carried)
	return s
}

// wilson returns the 95 % interval of a share among n (Wilson 1927).
func wilson(p, n float64) (lo, hi float64) {
	const z = 1.959964
	mid := (p + z*z/(2*n)) / (1 + z*z/n)
	half := z / (1 + z*z/n) * math.Sqrt(p*(1-p)/n+z*z/(4*n*n))
	return max(mid-half, 0), min(mid+half, 1)
}
