// Package rng is the seeded randomness of the core. The same seed produces the same numbers on
// every processor: floating-point logarithms and fused multiplications differ between machines
// in their last bits, so that no result depends on those.
package rng

import (
	"math"
	"math/bits"
	"math/rand/v2"
	"time"
)

// Source is a seeded stream of random numbers. It is not safe for use by
// several goroutines.
type Source struct{ pcg *rand.PCG }

// New returns stream number `stream` of a seed; streams of one seed are independent of each other.
func New(seed, stream uint64) *Source {
	return &Source{rand.NewPCG(seed, stream*0x9e3779b97f4a7c15+0x632be59bd9b4e019)}
}

// Uint64 returns 64 random bits.
func (s *Source) Uint64() uint64 { return s.pcg.Uint64() }

// Below returns a number from 0 to n-1, without bias beyond 2⁻⁶⁴·n. It returns 0 for n ≤ 0.
func (s *Source) Below(n int) int {
	if n <= 0 {
		return 0
	}
	hi, _ := bits.Mul64(s.Uint64(), uint64(n))
	return int(hi)
}

// Unit returns a number between 0 and 1, and neither.
func (s *Source) Unit() float64 { return (float64(s.Uint64()>>11) + 0.5) / (1 << 53) }

// Chance returns true with a probability of num in den.
func (s *Source) Chance(num, den int) bool { return s.Below(den) < num }

// Between returns a duration from lo up to, but not including, hi.
func (s *Source) Between(lo, hi time.Duration) time.Duration {
	return lo + time.Duration(s.Below(int(hi-lo)))
}

// Exp returns an exponentially distributed duration with the given mean, by
// inversion: -ln(u)·mean, with the logarithm in fixed point.
func (s *Source) Exp(mean time.Duration) time.Duration {
	if mean <= 0 {
		return 0
	}
	u := s.Uint64() | 1 // in (0, 1), as u·2⁻⁶⁴
	// -ln(u) = -log2(u)·ln 2, both with 32 fractional bits
	hi, lo := bits.Mul64(negLog2(u), ln2)
	e := hi<<32 | lo>>32 // 32 fractional bits
	hi, lo = bits.Mul64(e, uint64(mean))
	return time.Duration(hi<<32 | lo>>32)
}

const ln2 = 2977044472 // ln 2 · 2³²

// negLog2 returns -log2(u·2⁻⁶⁴) with 32 fractional bits, for u ≥ 1. The library's logarithm is off
// by a few units of 2⁻⁵², on each machine by others: it decides where it is further than 2⁻⁴⁴ from
// a step of the result, which is 2⁻³², and exact arithmetic in the other cases, of which there are
// five in ten thousand.
func negLog2(u uint64) uint64 {
	lead := bits.LeadingZeros64(u)
	m := u << lead // in [2⁶³, 2⁶⁴): a mantissa in [1, 2) with 63 fractional bits
	y := math.Log(float64(m>>11)*0x1p-52) * (1 << 32 / math.Ln2)
	frac := uint64(y)
	if rest := y - float64(frac); rest < 0x1p-12 || rest > 1-0x1p-12 {
		frac = log2Exact(m)
	}
	// u·2⁻⁶⁴ = mantissa · 2^(-lead-1)
	return uint64(lead+1)<<32 - frac
}

// log2Exact returns the logarithm of a mantissa in [1, 2) with 63 fractional bits, with 32 of them, bit by bit.
func log2Exact(m uint64) (frac uint64) {
	for range 32 {
		hi, lo := bits.Mul64(m, m) // the square, in [1, 4), with 126 fractional bits
		frac <<= 1
		if hi>>63 == 1 { // 2 or more
			frac |= 1
			m = hi
		} else {
			m = hi<<1 | lo>>63
		}
	}
	return frac
}
