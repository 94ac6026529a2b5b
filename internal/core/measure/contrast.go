package measure

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"nightdrill/internal/core/chance"
)

// MannWhitney tells whether one of two independent sets of samples tends to be
// larger: U of the first, and the two-sided p of so uneven a U when both are
// alike. Exact for small sets without ties, otherwise by the normal approximation
// with corrections for ties and continuity (Mann and Whitney 1947).
func MannWhitney(a, b []time.Duration) (u, p float64) {
	n, m := len(a), len(b)
	if n == 0 || m == 0 {
		return 0, 1
	}
	type sample struct {
		d     time.Duration
		first bool
	}
	all := make([]sample, 0, n+m)
	for _, d := range a {
		all = append(all, sample{d, true})
	}
	for _, d := range b {
		all = append(all, sample{d, false})
	}
	slices.SortFunc(all, func(x, y sample) int { return cmp.Compare(x.d, y.d) })
	ranks, ties := 0.0, 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j].d == all[i].d {
			j++
		}
		t := float64(j - i)
		ties += t*t*t - t
		for ; i < j; i++ {
			if all[i].first {
				ranks += float64(j) - (t-1)/2
			}
		}
	}
	u = ranks - float64(n*(n+1))/2
	if ties == 0 && n <= mostExact && m <= mostExact {
		return u, exactU(n, m, int(u))
	}
	nm, total := float64(n)*float64(m), float64(n+m)
	variance := nm / 12 * (total + 1 - ties/(total*(total-1)))
	if variance <= 0 {
		return u, 1
	}
	z := (math.Abs(u-nm/2) - 0.5) / math.Sqrt(variance)
	return u, min(math.Erfc(max(z, 0)/math.Sqrt2), 1)
}

// mostExact is up to how many samples of each set the exact distribution is used.
const mostExact = 20

// exactU gives the two-sided p of U from the number of ways to come by it.
func exactU(n, m, u int) float64 {
	// ways[k][s]: how often k of the first set, put in among so many of the second, are
	// larger than s of them in all; the largest of all is of either set
	ways := make([][]float64, n+1)
	for k := range ways {
		ways[k] = make([]float64, n*m+1)
		ways[k][0] = 1 // none of the second
	}
	for second := 1; second <= m; second++ {
		for k := 1; k <= n; k++ { // ways[k-1] is of this round already, ways[k] of the one before
			for s := n * m; s >= second; s-- {
				ways[k][s] += ways[k-1][s-second]
			}
		}
	}
	total, low := 0.0, 0.0
	u = min(u, n*m-u)
	for s, w := range ways[n] {
		total += w
		if s <= u {
			low += w
		}
	}
	return min(2*low/total, 1)
}

// Contrast sets a figure of one side against the same of another: the ratio of
// their medians, with its 95 % interval, and whether that is more than noise.
type Contrast struct {
	What    string      `json:"what"`
	N       [2]int      `json:"n"`
	Medians [2]*float64 `json:"medians"` // milliseconds, or MiB
	Ratio   *float64    `json:"ratio"`   // of the second median to the first; nil where too few samples carry it
	Lo      *float64    `json:"ratio_lo"`
	Hi      *float64    `json:"ratio_hi"`
	P       *float64    `json:"p"` // of Mann-Whitney's test
	Beyond  bool        `json:"beyond_noise"`
	Least   *float64    `json:"least_seen"` // where no difference was seen: a larger share than this would have been
}

// contrast compares two populations. Of dependent ones blocks of time are drawn
// and compared, not single samples.
func contrast(what string, a, b *Population, independent bool) Contrast {
	c := Contrast{What: what, N: [2]int{a.N(), b.N()}}
	if !Enough(0.5, a.N()) || !Enough(0.5, b.N()) {
		return c
	}
	x, y := Millis(a.At(rank(0.5, a.N())-1)), Millis(b.At(rank(0.5, b.N())-1))
	c.Medians = [2]*float64{&x, &y}
	if x <= 0 || y <= 0 {
		return c
	}
	ratios := make([]float64, resamples)
	of, to := a.medians(independent, 1), b.medians(independent, 2)
	for i := range ratios {
		ratios[i] = float64(to[i]) / max(float64(of[i]), 1)
	}
	slices.Sort(ratios)
	v := y / x
	lo, hi := min(ratios[resamples/40], v), max(ratios[resamples-1-resamples/40], v)
	var p float64
	if independent {
		_, p = MannWhitney(every(a.inOrder, mostCompared), every(b.inOrder, mostCompared))
	} else {
		_, p = MannWhitney(a.blockMedians(), b.blockMedians())
	}
	c.Ratio, c.Lo, c.Hi, c.P = &v, &lo, &hi, &p
	return c
}

// mostCompared bounds the samples of a test.
const mostCompared = 20_000

// medians gives the medians of many populations that might as well have been seen.
func (p *Population) medians(independent bool, stream uint64) []time.Duration {
	n := p.N()
	r := chance.New(uint64(n), stream)
	if !independent {
		return p.resampled(p.grids(0.5)[0], 0.5, r)
	}
	// the median of n draws is the sample at a place that is the median of n uniform
	// ones; of many it is normal around the middle
	out := make([]time.Duration, resamples)
	place := make([]float64, n)
	for k := range out {
		at := 0.0
		if n <= 200 {
			for i := range place {
				place[i] = float64(r.Uint64()>>11) / (1 << 53)
			}
			slices.Sort(place)
			at = place[rank(0.5, n)-1]
		} else {
			z := -6.0 // the sum of twelve uniform ones is close to normal
			for range 12 {
				z += float64(r.Uint64()>>11) / (1 << 53)
			}
			at = 0.5 + z/(2*math.Sqrt(float64(n)))
		}
		out[k] = p.At(min(max(int(at*float64(n)), 0), n-1))
	}
	return out
}

// blockMedians gives the median of each block of time: what depends on its
// neighbours counts once.
func (p *Population) blockMedians() (out []time.Duration) {
	n := p.N()
	blocks := blocksOf(n)
	for b := range blocks {
		out = append(out, medianOf(p.inOrder[b*n/blocks:(b+1)*n/blocks]))
	}
	return out
}

// noise is the share of alike pairs that may be taken for different, over all
// contrasts of a comparison.
const noise = 0.05

// judgeAll tells which contrasts are beyond the noise, all of them together being
// wrong in at most one comparison of twenty (Holm 1979).
func judgeAll(all []*Contrast) {
	var tested []*Contrast
	for _, c := range all {
		if c.P != nil {
			tested = append(tested, c)
		}
	}
	slices.SortStableFunc(tested, func(a, b *Contrast) int { return cmp.Compare(*a.P, *b.P) })
	open := true
	for i, c := range tested {
		open = open && *c.P <= noise/float64(len(tested)-i)
		c.Beyond = open && (*c.Lo > 1 || *c.Hi < 1)
		if !c.Beyond {
			least := max(*c.Hi-1, 1-*c.Lo)
			c.Least = &least
		}
	}
}

// Words says what a contrast says, of the second side against the first.
func (c *Contrast) Words() string {
	switch {
	case c.N[0] == 0 || c.N[1] == 0:
		return "not seen on both sides"
	case c.Ratio == nil:
		return fmt.Sprintf("too few samples: %d and %d, and a median needs 6", c.N[0], c.N[1])
	case !c.Beyond:
		return fmt.Sprintf("no difference seen, and one of more than %s would have been", Percent(*c.Least))
	case *c.Ratio < 1:
		return fmt.Sprintf("%s times as long, %s less", RatioText(*c.Ratio), Percent(1-*c.Ratio))
	}
	return fmt.Sprintf("%s times as long, %s more", RatioText(*c.Ratio), Percent(*c.Ratio-1))
}

// Between writes where the ratio lies with 95 % certainty.
func (c *Contrast) Between() string {
	if c.Lo == nil {
		return "–"
	}
	return RatioText(*c.Lo) + " – " + RatioText(*c.Hi)
}
