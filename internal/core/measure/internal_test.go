package measure

import (
	"math"
	"testing"
)

// Wilson's interval, against the table in Newcombe (1998).
func TestWilson(t *testing.T) {
	for _, c := range []struct{ k, n, lo, hi float64 }{{81, 263, 0.2553, 0.3662}, {15, 148, 0.0624, 0.1605},
		{0, 20, 0, 0.1611}, {1, 29, 0.0061, 0.1718}} {
		if lo, hi := wilson(c.k/c.n, c.n); math.Abs(lo-c.lo) > 1e-4 || math.Abs(hi-c.hi) > 1e-4 {
			t.Errorf("%v of %v lies between %.4f and %.4f, want %.4f and %.4f", c.k, c.n, lo, hi, c.lo, c.hi)
		}
	}
}

// The steps of the warm-up cover every n once.
func TestStepsOfTheWarmUp(t *testing.T) {
	for step, from := 0, 1; step < 30; step++ {
		lo, hi := nthRange(step)
		if lo != from || hi < lo {
			t.Fatalf("step %d goes from %d to %d, want it to begin at %d", step, lo, hi, from)
		}
		from = hi + 1
	}
}
