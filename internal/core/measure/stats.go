package measure

import (
	"math"
	"slices"
	"time"

	"nightdrill/internal/core/chance"
)

// Population is the durations of one kind: of one function, one class.
type Population struct {
	inOrder []time.Duration // in the order of time
	sorted  []time.Duration
}

// Add appends a duration; durations come in the order of time.
func (p *Population) Add(d time.Duration) { p.inOrder, p.sorted = append(p.inOrder, d), nil }

// N gives how many there are.
func (p *Population) N() int { return len(p.inOrder) }

func (p *Population) sort() []time.Duration {
	if p.sorted == nil {
		p.sorted = slices.Clone(p.inOrder)
		slices.Sort(p.sorted)
	}
	return p.sorted
}

// Sorted gives the durations in ascending order; the caller leaves them as they are.
func (p *Population) Sorted() []time.Duration { return p.sort() }

// Max gives the longest; 0 for an empty population.
func (p *Population) Max() time.Duration {
	if s := p.sort(); len(s) > 0 {
		return s[len(s)-1]
	}
	return 0
}

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

// Need gives how many samples percentile q needs.
func Need(q float64) int {
	n := 1
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
	s := p.sort()
	n := len(s)
	if n == 0 || !Enough(q, n) {
		return Percentile{}
	}
	lo, hi := orderRanks(q, n)
	return Percentile{s[rank(q, n)-1], s[lo-1], s[hi-1], true}
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
	resamples  = 400
	mostBlocks = 64
	gridSize   = 512
)

// Dependent gives percentile q of samples that follow each other in time and
// so depend on their neighbours, as latencies under load do. The interval is
// from a bootstrap over contiguous blocks.
func (p *Population) Dependent(q float64) Percentile {
	s := p.sort()
	n := len(s)
	if n == 0 || !Enough(q, n) {
		return Percentile{}
	}
	out := Percentile{Value: s[rank(q, n)-1], OK: true}
	// long blocks, so that what hangs together stays together; and
	// thresholds around the percentile, among which the resampled one is found
	blocks := min(mostBlocks, max(4, int(math.Sqrt(float64(n)))))
	grid := gridAround(s, q, blocks)
	// how many samples of each block are at or below each threshold
	counts := make([][]int32, len(grid))
	for i := range counts {
		counts[i] = make([]int32, blocks)
	}
	size := make([]int32, blocks)
	for i, d := range p.inOrder {
		b := i * blocks / n
		size[b]++
		if j, _ := slices.BinarySearch(grid, d); j < len(grid) {
			counts[j][b]++
		}
	}
	for j := 1; j < len(grid); j++ {
		for b := range blocks {
			counts[j][b] += counts[j-1][b]
		}
	}
	r := chance.New(uint64(n), uint64(q*1e6))
	found := make([]time.Duration, resamples)
	weight := make([]int32, blocks)
	for k := range found {
		clear(weight)
		total := int64(0)
		for range blocks {
			b := r.Below(blocks)
			weight[b]++
			total += int64(size[b])
		}
		want := int64(rank(q, int(total)))
		lo, hi := 0, len(grid)-1
		for lo < hi {
			mid := (lo + hi) / 2
			at := int64(0)
			for b, w := range weight {
				at += int64(w) * int64(counts[mid][b])
			}
			if at >= want {
				hi = mid
			} else {
				lo = mid + 1
			}
		}
		found[k] = grid[lo]
	}
	slices.Sort(found)
	out.Lo = min(found[resamples/40], out.Value) // 2.5 %
	out.Hi = max(found[resamples-1-resamples/40], out.Value)
	return out
}

// gridAround gives distinct sample values in the stretch where resampled
// percentiles can fall, all of them when they are few.
func gridAround(s []time.Duration, q float64, blocks int) []time.Duration {
	n := len(s)
	// blocks vary more than single samples: six times the binomial spread of the blocks
	spread := 6 * math.Sqrt(q*(1-q)/float64(blocks))
	lo := max(int((q-spread)*float64(n)), 0)
	hi := min(int((q+spread)*float64(n))+1, n)
	step := max((hi-lo)/gridSize, 1)
	var grid []time.Duration
	put := func(d time.Duration) {
		if len(grid) == 0 || d > grid[len(grid)-1] {
			grid = append(grid, d)
		}
	}
	for i := lo; i < hi; i += step {
		put(s[i])
	}
	put(s[n-1])
	return grid
}
