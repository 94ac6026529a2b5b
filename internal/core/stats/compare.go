package stats

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Comparison is what two populations say about each other.
type Comparison struct {
	// P is the two-sided p of the hypothesis that neither tends to be larger.
	P float64
	// Least is the smallest P that populations of these sizes can have, however
	// different they are.
	Least float64
	// Ratio is the median of the second over that of the first; its 95 % interval
	// is valid where Interval is set. Ratio is 0 where a median is not above 0.
	Ratio, Lo, Hi float64
	Interval      bool

	a, b     *Population
	sampling Sampling
	// sides holds the inflation of the variance of each side's mean rank, and the
	// degrees of freedom with which that is known.
	inflation, freedom [2]float64
}

// Compare compares two populations that are not empty. Independent ones are tested by
// Mann and Whitney's U, serial ones by the same U with the variance that their
// dependence returns it. The interval of the ratio is put together from those of the two
// medians (Zou and Donner 2008), in logarithms.
func Compare(a, b *Population, s Sampling) Comparison {
	c := Comparison{a: a, b: b, sampling: s}
	x, y := a.byUnit(), b.byUnit()
	ranks := newRanks(x, y)
	for i, side := range [][]time.Duration{x, y} {
		c.inflation[i], c.freedom[i] = rankInflation(side, ranks.of, s)
	}
	c.P, c.Least = c.test(x, y)
	p, q := a.Percentile(0.5, s), b.Percentile(0.5, s)
	if !p.OK || !q.OK || p.Value <= 0 || q.Value <= 0 {
		return c
	}
	c.Ratio = float64(q.Value) / float64(p.Value)
	if !p.Interval || !q.Interval || p.Lo <= 0 || q.Lo <= 0 {
		return c
	}
	log := func(of, by time.Duration) float64 { return math.Log(float64(of) / float64(by)) }
	c.Lo = c.Ratio * math.Exp(-math.Hypot(log(q.Value, q.Lo), log(p.Hi, p.Value)))
	c.Hi = c.Ratio * math.Exp(math.Hypot(log(q.Hi, q.Value), log(p.Value, p.Lo)))
	c.Interval = true
	return c
}

// OneSided returns the p of the hypothesis that the second population is at most
// `times` times the first.
func OneSided(a, b *Population, s Sampling, times float64) (p, least float64) {
	scaled := &Population{units: a.units, inOrder: make([]time.Duration, a.N())}
	for i, d := range a.inOrder {
		scaled.inOrder[i] = time.Duration(float64(d) * times)
	}
	c := Compare(scaled, b, s)
	if superiority(scaled.byUnit(), b.byUnit()) > 0.5 {
		return c.P / 2, c.Least / 2
	}
	return 1 - c.P/2, c.Least / 2
}

// test returns the two-sided p of the samples of two sides, and the smallest that
// there can be.
func (c *Comparison) test(x, y []time.Duration) (p, least float64) {
	if c.exact() {
		_, p = MannWhitney(x, y)
		low, high := make([]time.Duration, len(x)), make([]time.Duration, len(y))
		for i := range low {
			low[i] = time.Duration(i)
		}
		for i := range high {
			high[i] = time.Duration(len(x) + i)
		}
		_, least = MannWhitney(low, high)
		return p, least
	}
	spread := c.spread(len(x), len(y))
	return c.pOf(math.Abs(superiority(x, y)-0.5) / spread), c.pOf(0.5 / spread)
}

// exact reports whether both sides count as independent samples.
func (c *Comparison) exact() bool {
	return c.inflation == [2]float64{1, 1} && c.freedom == [2]float64{known, known}
}

// spread returns the standard deviation of the share of pairs in which the second is
// larger, where neither population tends to be.
func (c *Comparison) spread(n, m int) float64 {
	return math.Sqrt((c.inflation[0]/float64(n) + c.inflation[1]/float64(m)) / 12)
}

// pOf returns the two-sided p of a deviation in standard deviations.
func (c *Comparison) pOf(deviation float64) float64 {
	n, m := float64(c.a.Units()), float64(c.b.Units())
	v, w := c.inflation[0]/n, c.inflation[1]/m
	freedom := (v + w) * (v + w) / (v*v/c.freedom[0] + w*w/c.freedom[1]) // Welch 1947
	return twoSided(deviation, freedom)
}

// twoSided returns the two-sided p of a value of Student's t, by Wallace's
// approximation (1959), which is within one hundredth of p for ten degrees of freedom
// and more.
func twoSided(t, freedom float64) float64 {
	z := (8*freedom + 1) / (8*freedom + 3) * math.Sqrt(freedom*math.Log1p(t*t/freedom))
	return math.Erfc(z / math.Sqrt2)
}

// known is the number of degrees of freedom from which a variance counts as known.
const known = 1e6

// rankInflation returns how much larger the variance of the mean rank of a side is
// than that of independent samples, and with how many degrees of freedom it is known.
func rankInflation(side []time.Duration, rank func(time.Duration) float64, s Sampling) (by, freedom float64) {
	if s == Independent || s == Single && len(side) < 2*leastTail {
		return 1, known
	}
	by = presumedOfRanks
	if len(side) >= 2*leastTail {
		by = 1
	}
	if len(side) < sections {
		return by, known
	}
	own, mean := 0.0, 0.0
	for _, d := range side {
		mean += rank(d) / float64(len(side))
	}
	for _, d := range side {
		own += (rank(d) - mean) * (rank(d) - mean) / float64(len(side))
	}
	if own == 0 {
		return by, known
	}
	// the means of neighbouring sections resemble each other: with a first-order
	// autocorrelation of 0.7 they vary less than independent ones would by 2.75 lengths
	length := float64(len(side)) / sections
	seen := longRun(side, rank) / own / (1 - 2.75/max(length, 5.5))
	if seen > by || len(side) >= 2*leastTail {
		return max(seen, by), sections - 1
	}
	return by, known
}

// presumedOfRanks is what is presumed of serial samples in a test, while they are too
// few to tell: more than the variance alone requests, since the mean rank of few has
// longer tails than the normal distribution.
const presumedOfRanks = 7.0

// ranks are the places of durations in two sets together, from 0 to 1.
type ranks struct{ all []time.Duration }

func newRanks(x, y []time.Duration) ranks {
	return ranks{sorted(slices.Concat(Thin(x, mostRanked), Thin(y, mostRanked)))}
}

// mostRanked bounds the samples of each side among which places are looked up.
const mostRanked = 4096

// of returns the place of a duration, the middle one of several that are alike.
func (r ranks) of(d time.Duration) float64 {
	lo, _ := slices.BinarySearch(r.all, d)
	hi, _ := slices.BinarySearch(r.all, d+1)
	return float64(lo+hi) / 2 / float64(len(r.all))
}

// superiority returns the share of pairs in which the second is larger; pairs that are
// alike count by half.
func superiority(x, y []time.Duration) float64 {
	u, _ := rankSum(y, x)
	return u / (float64(len(x)) * float64(len(y)))
}

// Detectable returns the smallest ratio above 1 such that a difference as large would
// have been found with a probability of 95 %, at the level alpha, given how the samples
// vary; +Inf where none would.
func (c *Comparison) Detectable(alpha float64) float64 {
	if c.Least > alpha || c.Ratio <= 0 {
		return math.Inf(1)
	}
	const oneInTwenty = 1.644854
	x, y := Thin(c.a.byUnit(), 400), Thin(c.b.byUnit(), 400)
	z := normalFor(alpha)
	n, m := c.a.Units(), c.b.Units()
	spread := c.spread(n, m)
	if c.exact() {
		spread = math.Sqrt(float64(n+m+1) / (12 * float64(n) * float64(m)))
	}
	found := func(ratio float64) bool {
		scaled := make([]time.Duration, len(y)) // as if the second were so many times the first
		for i, d := range y {
			scaled[i] = time.Duration(float64(d) / c.Ratio * ratio)
		}
		share := superiority(x, scaled)
		if share == 1 {
			return true
		}
		vx, vy := placements(x, scaled), placements(scaled, x)
		vary := math.Sqrt(vx*c.inflation[0]/float64(n) + vy*c.inflation[1]/float64(m))
		return share-0.5-oneInTwenty*vary >= z*spread
	}
	lo, hi := 0.0, math.Log(1e6)
	if !found(math.Exp(hi)) {
		return math.Inf(1)
	}
	for hi-lo > 1e-3 {
		if mid := (lo + hi) / 2; found(math.Exp(mid)) {
			hi = mid
		} else {
			lo = mid
		}
	}
	return math.Exp(hi)
}

// placements returns the variance of the places of samples among others.
func placements(samples, among []time.Duration) float64 {
	r := ranks{sorted(among)}
	sum, squares := 0.0, 0.0
	for _, d := range samples {
		at := r.of(d)
		sum, squares = sum+at, squares+at*at
	}
	n := float64(len(samples))
	return max(squares/n-sum/n*(sum/n), 0)
}

// normalFor returns how many standard deviations have the two-sided p alpha.
func normalFor(alpha float64) float64 { return math.Sqrt2 * math.Erfinv(1-alpha) }

// Needed returns how many units each of two sides takes for a difference to be found
// at the level alpha, however large it is.
func Needed(alpha float64, s Sampling) int {
	if s == Serial {
		z := normalFor(alpha)
		return int(math.Ceil(z * z * presumedOfRanks * 2 / 12 / 0.25))
	}
	n := Need(0.5)
	for exactU(n, n, 0) > alpha && n < mostExact {
		n++
	}
	return n
}

// MannWhitney returns U of the first of two independent sets of samples, and the
// two-sided p of so uneven a U when both are alike. It is exact for small sets without
// ties, otherwise by the normal approximation with corrections for ties and continuity
// (Mann and Whitney 1947).
func MannWhitney(a, b []time.Duration) (u, p float64) {
	n, m := len(a), len(b)
	if n == 0 || m == 0 {
		return 0, 1
	}
	u, ties := rankSum(a, b)
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

// rankSum returns U of the first set, and the sum of t³-t over groups of t ties.
func rankSum(a, b []time.Duration) (u, ties float64) {
	type sample struct {
		d     time.Duration
		first bool
	}
	all := make([]sample, 0, len(a)+len(b))
	for _, d := range a {
		all = append(all, sample{d, true})
	}
	for _, d := range b {
		all = append(all, sample{d, false})
	}
	slices.SortFunc(all, func(x, y sample) int { return cmp.Compare(x.d, y.d) })
	sum := 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j].d == all[i].d {
			j++
		}
		t := float64(j - i)
		ties += t*t*t - t
		for ; i < j; i++ {
			if all[i].first {
				sum += float64(j) - (t-1)/2
			}
		}
	}
	n := float64(len(a))
	return sum - n*(n+1)/2, ties
}

// mostExact is up to how many samples of each set the exact distribution of U is used.
const mostExact = 20

// exactU returns the two-sided p of U from the number of orders that give it.
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
