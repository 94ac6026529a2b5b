package measure

import (
	"math"
	"slices"
	"time"

	"nightdrill/internal/core/chance"
)

// Percentile is a percentile with its 95 % interval. Not OK means that there
// are too few samples for an interval, and so for the figure.
type Percentile struct {
	Value, Lo, Hi time.Duration
	OK            bool
}

// Enough tells whether n samples carry percentile q: whether the interval
// from the smallest to the largest covers it with 95 %.
func Enough(q float64, n int) bool {
	return 1-math.Pow(q, float64(n))-math.Pow(1-q, float64(n)) >= 0.95
}

// Need gives how many samples percentile q needs; q lies between 0 and 1.
func Need(q float64) int {
	far := max(q, 1-q)
	n := max(int(math.Log(0.05)/math.Log(far))-1, 1) // the nearer end counts for little
	for !Enough(q, n) {
		n++
	}
	return n
}

// rank gives ⌈qn⌉, the place of percentile q among n sorted samples, from 1.
func rank(q float64, n int) int {
	return min(max(int(math.Ceil(q*float64(n)-1e-9)), 1), n)
}

// Independent gives percentile q of independent samples, with a
// distribution-free interval from order statistics.
func (p *Population) Independent(q float64) Percentile {
	n := p.N()
	if n == 0 || !Enough(q, n) {
		return Percentile{}
	}
	lo, hi := orderRanks(q, n)
	return Percentile{p.At(rank(q, n) - 1), p.At(lo - 1), p.At(hi - 1), true}
}

// orderRanks gives ranks l < u such that the interval from the l-th to the
// u-th of n sorted samples covers percentile q with at least 95 %: the number
// of samples below the percentile is binomial, so the coverage is
// P(l ≤ B < u). It grows from the most likely count to the likelier side.
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

const (
	resamples = 400
	gridSize  = 512
)

// blocksOf gives how many blocks of time n samples are cut into: long ones, so
// that what hangs together stays together.
func blocksOf(n int) int {
	return min(mostBlocks, max(4, int(math.Sqrt(float64(n)))), n)
}

// Dependent gives percentile q of samples that follow each other in time and
// so depend on their neighbours, as latencies under load do. The interval is
// from a bootstrap over contiguous blocks.
func (p *Population) Dependent(q float64) Percentile { return p.dependent(q)[0] }

// dependent gives several percentiles, in one walk over the samples.
func (p *Population) dependent(qs ...float64) []Percentile {
	out := make([]Percentile, len(qs))
	n := p.N()
	for i, g := range p.grids(qs...) {
		if n == 0 || !Enough(qs[i], n) {
			continue
		}
		found := p.resampled(g, qs[i], chance.New(uint64(n), uint64(qs[i]*1e6)))
		slices.Sort(found)
		v := p.At(rank(qs[i], n) - 1)
		out[i] = Percentile{Value: v, OK: true,
			Lo: min(found[resamples/40], v), // 2.5 %
			Hi: max(found[resamples-1-resamples/40], v)}
	}
	return out
}

// grid is places among the sorted samples around a percentile, each with how many
// samples of every block lie up to there.
type grid struct {
	at     []int
	counts [][mostBlocks]int32
}

// grids gives the grid of each percentile: the places where resampled ones can
// fall, all of them when they are few.
func (p *Population) grids(qs ...float64) []grid {
	out := make([]grid, len(qs))
	n := p.N()
	if n == 0 {
		return out
	}
	p.sort()
	for i, q := range qs {
		// blocks vary more than single samples: six times the binomial spread of the blocks
		spread := 6 * math.Sqrt(q*(1-q)/float64(p.blocks))
		lo, hi := max(int((q-spread)*float64(n)), 0), min(int((q+spread)*float64(n))+1, n)
		for k := lo; k < hi; k += max((hi-lo)/gridSize, 1) {
			out[i].at = append(out[i].at, k)
		}
		if k := len(out[i].at); k == 0 || out[i].at[k-1] != n-1 {
			out[i].at = append(out[i].at, n-1)
		}
		out[i].counts = make([][mostBlocks]int32, 0, len(out[i].at))
	}
	var counts [mostBlocks]int32
	next := make([]int, len(qs))
	for k, key := range p.keys {
		counts[key&(mostBlocks-1)]++
		for i := range out {
			if g := &out[i]; next[i] < len(g.at) && g.at[next[i]] == k {
				g.counts = append(g.counts, counts)
				next[i]++
			}
		}
	}
	return out
}

// resampled gives percentile q of each of many populations that are drawn block by
// block.
func (p *Population) resampled(g grid, q float64, r *chance.Source) []time.Duration {
	found := make([]time.Duration, resamples)
	size := &g.counts[len(g.counts)-1] // all samples
	var weight [mostBlocks]int64
	for k := range found {
		clear(weight[:])
		total := int64(0)
		for range p.blocks {
			b := r.Below(p.blocks)
			weight[b]++
			total += int64(size[b])
		}
		want := int64(rank(q, int(total)))
		lo, hi := 0, len(g.at)-1
		for lo < hi {
			mid := (lo + hi) / 2
			at := int64(0)
			for b, w := range weight[:p.blocks] {
				at += w * int64(g.counts[mid][b])
			}
			if at >= want {
				hi = mid
			} else {
				lo = mid + 1
			}
		}
		found[k] = p.At(g.at[lo])
	}
	return found
}
