package measure

import (
	"time"

	"nightdrill.dev/internal/core/stats"
)

// quantileOf returns percentile q of samples that it may bring into another order,
// without sorting them all (Hoare's Find).
func quantileOf(all []time.Duration, q float64) time.Duration {
	k := stats.Rank(q, len(all)) - 1
	for lo, hi := 0, len(all)-1; lo < hi; {
		// the middle of three as what the others are set against
		a, b, c := all[lo], all[lo+(hi-lo)/2], all[hi]
		pivot := max(min(a, b), min(max(a, b), c))
		i, j := lo, hi
		for i <= j {
			for all[i] < pivot {
				i++
			}
			for all[j] > pivot {
				j--
			}
			if i <= j {
				all[i], all[j] = all[j], all[i]
				i, j = i+1, j-1
			}
		}
		switch {
		case k <= j:
			hi = j
		case k >= i:
			lo = i
		default:
			return all[k]
		}
	}
	return all[k]
}
