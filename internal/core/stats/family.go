package stats

import (
	"cmp"
	"math"
	"slices"
)

// Noise is the probability with which a family of comparisons of populations that are
// alike finds any difference.
const Noise = 0.05

// Ruling is what a family of comparisons comes to for one of them.
type Ruling struct {
	// Differs is set where the populations differ beyond the noise.
	Differs bool
	// Able is set where a difference could have been found, if it had been large enough.
	Able bool
	// Alpha is the level at which a single comparison of the family was held.
	Alpha float64
}

// Judge rules on a family of hypotheses by their p and by the least p that each could
// have had. All of them together are wrong with a probability of at most noise (Holm
// 1979); hypotheses that could not have been refused at any rate are left out of the
// family first (Tarone 1990).
func Judge(p, least []float64, noise float64) []Ruling {
	out := make([]Ruling, len(p))
	var order []int
	for i := range p {
		order = append(order, i)
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(least[a], least[b]) })
	able := 0
	for able < len(order) && least[order[able]] <= noise/float64(able+1) {
		able++
	}
	family := order[:able]
	slices.SortStableFunc(family, func(a, b int) int { return cmp.Compare(p[a], p[b]) })
	for i := range out {
		out[i].Alpha = noise / float64(max(able, 1))
	}
	open := true
	for k, i := range family {
		open = open && p[i] <= noise/float64(able-k)
		out[i].Able, out[i].Differs = true, open
	}
	return out
}

// More returns how many more samples each side takes, for a difference to be found at
// the level alpha if it is large.
func (c *Comparison) More(alpha float64) int {
	need := Needed(alpha, c.sampling)
	return max(need-min(c.a.Units(), c.b.Units()), int(math.Ceil(float64(need)/4)), 1)
}
