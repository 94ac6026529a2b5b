package measure

import (
	"math"
	"time"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/stats"
)

// Contrast compares a figure of two sides: the ratio of their medians, with its 95 % interval, and
// whether that is more than noise.
type Contrast struct {
	What    string      `json:"what"`
	N       [2]int      `json:"n"`
	Units   [2]int      `json:"units"` // that count: invocations or instances; messages of one batch count once
	Unit    Unit        `json:"unit"`  // of the medians
	Medians [2]*float64 `json:"medians"`
	Ratio   *float64    `json:"ratio"`        // of the second median to the first; nil where there are too few samples
	Lo      *float64    `json:"ratio_lo"`     // nil where there are too few samples for the interval
	Hi      *float64    `json:"ratio_hi"`     //
	P       *float64    `json:"p"`            // of the Mann-Whitney test
	Beyond  bool        `json:"beyond_noise"` // a difference was detected
	Least   *float64    `json:"least_seen"`   // where none was: a larger one, as a share, would have been
	// samples on each side, at least, where there is no verdict; 0 elsewhere
	More int    `json:"needs_more"`
	Why  string `json:"why,omitempty"` // why there is no verdict, if not for lack of samples

	of *stats.Comparison
}

// Unit is what a figure is counted in.
type Unit string

// The units of contrasts. Samples of MiB are bytes, samples of milliseconds are nanoseconds.
const (
	Milliseconds Unit = "ms"
	MiB          Unit = "MiB"
)

// figure returns a sample in a unit.
func (u Unit) figure(sample int64) float64 {
	if u == MiB {
		return float64(sample) / (1 << 20)
	}
	return figure.Milliseconds(time.Duration(sample))
}

// contrast compares two populations, of samples of a unit.
func contrast(what string, unit Unit, a, b *stats.Population, s stats.Sampling) Contrast {
	c := Contrast{What: what, Unit: unit, N: [2]int{a.N(), b.N()}, Units: [2]int{a.Units(), b.Units()}}
	if a.N() == 0 || b.N() == 0 {
		return c
	}
	got := stats.Compare(a, b, s)
	c.of, c.P = &got, &got.P
	for i, p := range []*stats.Population{a, b} {
		if median := p.Percentile(0.5, s); median.OK {
			v := unit.figure(int64(median.Value))
			c.Medians[i] = &v
		}
	}
	if got.Ratio > 0 {
		c.Ratio = &got.Ratio
	}
	if got.Interval {
		c.Lo, c.Hi = &got.Lo, &got.Hi
	}
	return c
}

// judgeAll rules on all contrasts of a comparison together, which are wrong with a probability of at most
// noise.
func judgeAll(all []*Contrast, noise float64) {
	var tested []*Contrast
	var p, least []float64
	for _, c := range all {
		switch {
		case c.of == nil || c.Why != "":
		case c.Ratio == nil:
			c.More = c.of.More(noise)
		default:
			tested, p, least = append(tested, c), append(p, c.of.P), append(least, c.of.Least)
		}
	}
	for i, ruling := range stats.Judge(p, least, noise) {
		c := tested[i]
		c.Beyond = ruling.Differs && (c.Lo == nil || *c.Lo > 1 || *c.Hi < 1)
		if c.Beyond {
			continue
		}
		if detectable := c.of.Detectable(ruling.Alpha); ruling.Able && !math.IsInf(detectable, 1) {
			share := detectable - 1
			c.Least = &share
		} else {
			c.More = c.of.More(ruling.Alpha)
		}
	}
}
