package stats

import (
	"math"
	"time"
)

// Percentile is a percentile of a population with its 95 % interval.
type Percentile struct {
	Value time.Duration
	OK    bool // enough samples for the value
	// Lo and Hi are valid where Interval is set; elsewhere Needs is how many units the
	// interval takes, as far as can be told.
	Lo, Hi   time.Duration
	Interval bool
	Needs    int
}

// Enough reports whether n independent samples carry percentile q: whether the
// interval from the smallest to the largest covers it with 95 %.
func Enough(q float64, n int) bool { return enough(q, float64(n)) }

func enough(q, n float64) bool { return 1-math.Pow(q, n)-math.Pow(1-q, n) >= 0.95 }

// Need returns how many independent samples percentile q takes, 0 < q < 1.
func Need(q float64) int {
	far := max(q, 1-q)
	n := max(int(math.Log(0.05)/math.Log(far))-1, 1) // the nearer end counts for little
	for !Enough(q, n) {
		n++
	}
	return n
}

// Rank returns ⌈qn⌉, the place of percentile q among n sorted samples, from 1.
func Rank(q float64, n int) int {
	return min(max(int(math.Ceil(q*float64(n)-1e-9)), 1), n)
}

// Percentile returns percentile q, 0 < q < 1. The interval of independent samples is
// from order statistics. That of serial ones is from order statistics of as many
// independent samples as carry the same information.
func (p *Population) Percentile(q float64, s Sampling) Percentile {
	n := p.N()
	if !Enough(q, n) {
		return Percentile{Needs: p.needs(q, s, 1)}
	}
	out := Percentile{Value: p.At(Rank(q, n) - 1), OK: true}
	d := p.inflation(q, out.Value, s)
	carried := int(float64(n)/d + 1e-9)
	if !Enough(q, carried) {
		out.Needs = p.needs(q, s, d)
		return out
	}
	l, u := orderRanks(q, carried)
	each := float64(n) / float64(carried)
	lo := min(int(float64(l-1)*each+1e-9), Rank(q, n)-1)
	hi := max(int(math.Ceil(float64(u)*each-1e-9))-1, Rank(q, n)-1)
	out.Lo, out.Hi, out.Interval = p.At(lo), p.At(min(hi, n-1)), true
	return out
}

// needs returns how many samples the interval of percentile q takes when one
// independent sample is worth d of them.
func (p *Population) needs(q float64, s Sampling, d float64) int {
	if s == Serial {
		d = max(d, presumed)
	}
	return int(math.Ceil(float64(Need(q)) * d))
}

// What is presumed of serial samples while they are too few to tell: the variance of
// a mean of samples with a first-order autocorrelation of 0.7 is (1+0.7)/(1-0.7) times
// that of independent ones.
const presumed = 1.7 / 0.3

// sections is into how many sections of time serial samples are cut, to see how much
// their means vary.
const sections = 16

// t95 is the 97.5th percentile of Student's t with sections-1 degrees of freedom over
// that of the normal distribution.
const t95 = 2.131450 / 1.959964

// leastTail is how many samples beyond a percentile are needed, on its nearer side, for
// their dependence to be estimated rather than presumed.
const leastTail = 80

// inflation returns how many serial samples carry as much about percentile q, which
// is at v, as one independent sample.
func (p *Population) inflation(q float64, v time.Duration, s Sampling) float64 {
	n := float64(p.N())
	shared := n / p.effective()
	tells := n/shared*min(q, 1-q) >= leastTail
	if s == Independent || s == Single && !tells {
		return shared
	}
	least := shared * presumed
	if tells {
		least = 1
	}
	if p.N() < sections {
		return least
	}
	return max(least, t95*t95*longRunOf(p.inOrder, v)/(q*(1-q)))
}

// Carried returns how many independent samples carry as much about the mean as the
// samples of the population do; at least 1.
func (p *Population) Carried(s Sampling) float64 {
	n := float64(p.N())
	by := n / p.effective()
	if s == Serial && p.Units() < 2*leastTail {
		by *= presumed
	}
	if own := p.variance(); s != Independent && p.N() >= sections && own > 0 &&
		(s == Serial || p.Units() >= 2*leastTail) {
		by = max(by, t95*t95*longRun(p.inOrder, func(d time.Duration) float64 { return float64(d) })/own)
	}
	return max(n/by, 1)
}

// variance returns the variance of the samples.
func (p *Population) variance() (variance float64) {
	n, mean := float64(p.N()), 0.0
	for _, d := range p.inOrder {
		mean += float64(d) / n
	}
	for _, d := range p.inOrder {
		variance += (float64(d) - mean) * (float64(d) - mean) / n
	}
	return variance
}

// longRun returns the long-run variance of a series: that of its mean, times its
// length. It is estimated from the means of contiguous sections.
func longRun(series []time.Duration, of func(time.Duration) float64) float64 {
	var means [sections]float64
	for b := range sections {
		part := series[b*len(series)/sections : (b+1)*len(series)/sections]
		for _, d := range part {
			means[b] += of(d)
		}
		means[b] /= float64(len(part))
	}
	return longRunBy(&means, len(series))
}

// longRunOf returns the long-run variance of whether the samples of a series are at most v.
func longRunOf(series []time.Duration, v time.Duration) float64 {
	var means [sections]float64
	for b := range sections {
		part := series[b*len(series)/sections : (b+1)*len(series)/sections]
		above := 0
		for _, d := range part {
			above += int(uint64(v-d) >> 63) // without a branch, which would be guessed wrong at the median
		}
		means[b] = 1 - float64(above)/float64(len(part))
	}
	return longRunBy(&means, len(series))
}

// longRunBy returns the long-run variance of a series of n samples by the means of its sections.
func longRunBy(means *[sections]float64, n int) float64 {
	mean, sum := 0.0, 0.0
	for _, m := range means {
		mean += m / sections
	}
	for _, m := range means {
		sum += (m - mean) * (m - mean)
	}
	return sum / (sections - 1) * float64(n) / sections
}

// orderRanks returns ranks l < u such that the interval from the l-th to the u-th of n
// sorted samples covers percentile q with at least 95 %: the number of samples below
// the percentile is binomial, so the coverage is P(l ≤ B < u). It grows from the most
// likely count to the likelier side.
func orderRanks(q float64, n int) (l, u int) {
	mode := min(int(float64(n+1)*q), n-1)
	mode = max(mode, 1)
	logs := func(k int) float64 {
		a, _ := math.Lgamma(float64(n + 1))
		b, _ := math.Lgamma(float64(k + 1))
		c, _ := math.Lgamma(float64(n - k + 1))
		return a - b - c + float64(k)*math.Log(q) + float64(n-k)*math.Log(1-q)
	}
	odds := q / (1 - q)
	below, above := math.Exp(logs(mode)), math.Exp(logs(mode)) // of the outermost counts taken
	covered := below
	l, u = mode, mode+1
	for covered < 0.95 && (l > 1 || u < n) {
		down, up := 0.0, 0.0
		if l > 1 {
			down = below * float64(l) / (float64(n-l+1) * odds) // P(l-1) from P(l)
		}
		if u < n {
			up = above * float64(n-u+1) / float64(u) * odds // P(u) from P(u-1)
		}
		if down >= up {
			l, below = l-1, down
			covered += down
		} else {
			u, above = u+1, up
			covered += up
		}
	}
	return l, u
}
