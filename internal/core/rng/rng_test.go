package rng

import (
	"math"
	"math/bits"
	"testing"
	"time"
)

func TestExpHasItsMeanAndIsTheSameEverywhere(t *testing.T) {
	s := New(7, 3)
	const n = 200_000
	var sum, over float64
	for range n {
		d := s.Exp(time.Second)
		sum += d.Seconds()
		if d > time.Second {
			over++
		}
	}
	if mean := sum / n; math.Abs(mean-1) > 0.01 {
		t.Errorf("mean %v, want 1 within 1 %%", mean)
	}
	if share := over / n; math.Abs(share-1/math.E) > 0.005 {
		t.Errorf("share above the mean %v, want %v", share, 1/math.E)
	}
	// fixed values: a change here changes every seeded drill
	s = New(1, 0)
	for i, want := range []time.Duration{127608869, 427163260, 1889641499} {
		if got := s.Exp(time.Second); got != want {
			t.Errorf("draw %d of seed 1: %d, want %d", i, got, want)
		}
	}
}

// The logarithm is that of exact arithmetic, also beside its steps, where the library's alone
// could be on the other side.
func TestNegLog2IsExact(t *testing.T) {
	check := func(u uint64) {
		lead := bits.LeadingZeros64(u)
		if got, want := negLog2(u), uint64(lead+1)<<32-log2Exact(u<<lead); got != want {
			t.Fatalf("-log2(%d/2^64) = %d·2⁻³², want %d", u, got, want)
		}
	}
	s := New(2, 0)
	for range 200_000 {
		u := s.Uint64() | 1
		check(u)
		check(u>>s.Below(64) | 1)
		step := uint64(math.Exp2(float64(s.Below(1<<32))/(1<<32)) * (1 << 63)) // of the result
		for d := range uint64(3) {
			check(max(step, 1<<63) + d<<s.Below(20))
			check(max(step, 1<<63+1<<22) - d<<s.Below(20))
		}
		if got, want := float64(negLog2(u))/(1<<32), 64-math.Log2(float64(u)); math.Abs(got-want) > 1e-6 {
			t.Fatalf("-log2(%d/2^64) = %v, want %v", u, got, want)
		}
	}
	for _, u := range []uint64{1, 2, 3, 1 << 32, 1<<63 - 1, 1 << 63, 1<<63 + 1, math.MaxUint64} {
		check(u)
	}
}

func BenchmarkExp(b *testing.B) {
	s := New(1, 0)
	for b.Loop() {
		s.Exp(time.Second)
	}
}
