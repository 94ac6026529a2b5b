package stats

import "math"

// A comparison may be looked at before it has all of its samples, and stop where the verdict is clear. Each
// look is another chance to find a difference where there is none, so the looks share a part of Noise, and
// the end has the rest: by Bonferroni's inequality all verdicts together are wrong with a probability of at
// most Noise, whatever depends on what.

// EarlyNoise is the part of Noise that the looks before the end share.
const EarlyNoise = 0.01

// LateNoise is what is left for the end of a comparison that was looked at before.
const LateNoise = Noise - EarlyNoise

const (
	firstLook = 10 // fewer samples of each side cannot differ at the level of a look
	mostLooks = 8
)

// Looks returns after how many of n samples of each side a comparison is looked at: every five samples
// from ten on, at most eight times, and not right before the end.
func Looks(n int) (at []int) {
	step := max(5, (n-firstLook+mostLooks-1)/mostLooks)
	for k := firstLook; k+step/2 < n; k += step {
		at = append(at, k)
	}
	return at
}

// LookNoise returns the noise of one of so many looks. Each is halved: once for the decision to stop, and
// once for the verdict, which may be of a few samples more.
func LookNoise(looks int) float64 { return EarlyNoise / float64(2*max(looks, 1)) }

// Scatter returns the standard deviation of the logarithm of a population, from the interval of the median
// of its n samples, as if it were lognormal; 0 where that is not known.
func Scatter(lo, hi float64, n int) float64 {
	if lo <= 0 || hi < lo || n < 1 {
		return 0
	}
	return math.Log(hi/lo) / (2 * 1.959964) * math.Sqrt(2*float64(n)/math.Pi)
}

// Foreseen returns the smallest ratio above 1 that n samples of each side will detect with a probability of
// 95 %, where the sides scatter so and a single test is held to alpha. The rank test has 3/π of the
// efficiency of the t test for such samples.
func Foreseen(scatter float64, n int, alpha float64) float64 {
	if n < 1 {
		return math.Inf(1)
	}
	const oneInTwenty = 1.644854
	return math.Exp(scatter * math.Sqrt(2/float64(n)*math.Pi/3) * (normalFor(alpha) + oneInTwenty))
}
