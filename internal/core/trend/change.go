package trend

import (
	"math"
	"slices"

	"nightdrill.dev/internal/core/rng"
)

const (
	// fewest is the smallest number of points on each side of a change.
	fewest = 5
	// mostAlike bounds the correlation of neighbours that is reckoned with.
	mostAlike = 0.8
	// shuffles is the number of permutations by which a change is tested.
	shuffles = 2999
	// surest is the smallest probability that so many permutations can tell.
	surest = 2.0 / (shuffles + 1)
	// leastShift is the smallest change of a median that is named, as a share: 5 %.
	leastShift = 0.05
	// noise is the probability with which any of the figures of a drill is said to have changed in a hundred commits
	// of identical code. It is less than one in twenty since a trend is looked at again after each commit.
	noise = 0.005
)

// changePoints returns where values change their level, as the places of the first values after a change. For values
// of one level it returns any with a probability of at most chance, also where neighbours resemble each other.
//
// The statistic is the sum of what the logarithms before each place deviate from their mean by, weighted so that
// changes near the ends count alike, over what such a sum scatters by. Outliers are held to their neighbours first. The
// distribution without a change is that over random orders of what is left when it is taken away. A series with a
// change is divided there, and both parts are tested again.
func changePoints(values []float64, chance float64) []int {
	var out []int
	var divide func(from, to int)
	divide = func(from, to int) {
		at, p := strongest(values[from:to], chance)
		if at == 0 || p > chance {
			return
		}
		before, after := median(values[from:from+at]), median(values[from+at:to])
		if before > 0 && math.Abs(after/before-1) >= leastShift {
			out = append(out, from+at)
		}
		divide(from, from+at)
		divide(from+at, to)
	}
	divide(0, len(values))
	slices.Sort(out)
	return out
}

// strongest returns the place of the strongest change, and how probable one as strong is without a change; at is 0
// where there are too few values. Once that is clearly more than chance, it is not told more closely.
func strongest(values []float64, chance float64) (at int, p float64) {
	n := len(values)
	if n < 2*fewest || slices.Min(values) <= 0 {
		return 0, 1
	}
	logs, held := make([]float64, n), make([]float64, n)
	for i, v := range values {
		logs[i] = math.Log(v)
	}
	at, most := peak(logs, held)
	// what is left without the change is what there is of noise
	for _, part := range [][]float64{logs[:at], logs[at:]} {
		middle := median(part)
		for i := range part {
			part[i] -= middle
		}
	}
	random, reached := rng.New(uint64(n), 7), 1
	for shuffled := range shuffles {
		for i := n - 1; i > 0; i-- {
			k := random.Below(i + 1)
			logs[i], logs[k] = logs[k], logs[i]
		}
		if _, v := peak(logs, held); v >= most {
			reached++
		}
		if float64(reached) > 5*chance*shuffles {
			return at, float64(reached) / float64(shuffled+2)
		}
	}
	return at, float64(reached) / (shuffles + 1)
}

// peak returns the place before which the sum of values deviates most from what is expected, and by how much. held is
// room for as many values.
func peak(values, held []float64) (at int, most float64) {
	hold(values, held)
	n, sum, mean := len(held), 0.0, 0.0
	for _, v := range held {
		mean += v / float64(n)
	}
	for k := 1; k <= n-fewest; k++ {
		sum += held[k-1] - mean
		if k < fewest {
			continue
		}
		if v := math.Abs(sum) / math.Sqrt(float64(k)*float64(n-k)/float64(n)); v > most {
			at, most = k, v
		}
	}
	return at, most / scatter(held, at)
}

// hold copies values, those that are further from the median of their neighbours than neighbours usually are held to
// that (Hampel's filter, of five values): a change of the level stays where it is.
func hold(values, held []float64) {
	const reach, times = 2, 3.0
	n := len(values)
	var around [2*reach + 1]float64
	room := make([]float64, 2*n)
	deviations, medians := room[:n], room[n:]
	for i := range values {
		from, to := max(i-reach, 0), min(i+reach+1, n)
		part := around[:to-from]
		copy(part, values[from:to])
		slices.Sort(part)
		medians[i] = (part[(len(part)-1)/2] + part[len(part)/2]) / 2
		deviations[i] = math.Abs(values[i] - medians[i])
	}
	slices.Sort(deviations)
	bound := times * 1.4826 * deviations[n/2]
	if bound == 0 { // most are what their neighbours are
		copy(held, values)
		return
	}
	for i, m := range medians {
		held[i] = min(max(values[i], m-bound), m+bound)
	}
}

// scatter returns the square root of the long-run variance of values whose neighbours resemble each other as those of
// a first-order autoregressive series. How much is told in two ways, of which the smaller counts: by the differences of
// values one and two places apart, with means v and v(1 + rho) of their squares, and by what is left when the change at
// a place is taken away. A change of the level is in one of the former differences and two of the latter, the largest,
// which are left out.
func scatter(values []float64, at int) float64 {
	n := float64(len(values))
	var one, two, most, first, second float64
	for i := 1; i < len(values); i++ {
		d := (values[i] - values[i-1]) * (values[i] - values[i-1])
		one, most = one+d, max(most, d)
		if i == 1 {
			continue
		}
		d = (values[i] - values[i-2]) * (values[i] - values[i-2])
		two += d
		if d > first {
			first, second = d, first
		} else if d > second {
			second = d
		}
	}
	one, two = (one-most)/(n-2), (two-first-second)/(n-4)
	if one <= 1e-12 {
		return 1e-6
	}
	rho := min(1.2*max(two/one-1, 0), max(1.2*alike(values, at)+0.15, 0), mostAlike)
	return math.Sqrt(one / 2 * (1 + rho) / ((1 - rho) * (1 - rho)))
}

// alike returns the correlation of neighbours within the values before and after a place.
func alike(values []float64, at int) float64 {
	var with, all float64
	for _, part := range [][]float64{values[:at], values[at:]} {
		mean := 0.0
		for _, v := range part {
			mean += v / float64(len(part))
		}
		for i, v := range part {
			all += (v - mean) * (v - mean)
			if i > 0 {
				with += (v - mean) * (part[i-1] - mean)
			}
		}
	}
	if all == 0 {
		return 0
	}
	return with / all
}

// median returns the median of values; 0 of none.
func median(values []float64) float64 {
	s := slices.Sorted(slices.Values(values))
	n := len(s)
	if n == 0 {
		return 0
	}
	return (s[(n-1)/2] + s[n/2]) / 2
}
