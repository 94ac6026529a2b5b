package rng

import (
	"math"
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

func TestNegLog2AgreesWithTheLibrary(t *testing.T) {
	s := New(2, 0)
	for range 10_000 {
		u := s.Uint64() | 1
		got := float64(negLog2(u)) / (1 << 32)
		want := 64 - math.Log2(float64(u))
		if math.Abs(got-want) > 1e-6 {
			t.Fatalf("-log2(%d/2^64) = %v, want %v", u, got, want)
		}
	}
}
