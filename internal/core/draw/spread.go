package draw

import (
	"math"
	"time"
)

// Scale is a logarithmic axis of durations.
type Scale struct {
	Lo, Hi time.Duration
	Cells  int
}

// NewScale returns an axis from the power of ten below the shortest duration to
// the one above the longest, at least a hundred times apart.
func NewScale(shortest, longest time.Duration, cells int) Scale {
	lo := math.Floor(math.Log10(float64(max(shortest, time.Microsecond))))
	hi := math.Ceil(math.Log10(float64(max(longest, 2*time.Microsecond))))
	if hi-lo < 2 {
		hi = lo + 2
	}
	return Scale{time.Duration(math.Pow(10, lo)), time.Duration(math.Pow(10, hi)), cells}
}

// At returns the cell of a duration.
func (s Scale) At(d time.Duration) int {
	if d <= s.Lo {
		return 0
	}
	at := math.Log(float64(d)/float64(s.Lo)) / math.Log(float64(s.Hi)/float64(s.Lo)) * float64(s.Cells)
	return min(int(at), s.Cells-1)
}

// Ticks returns the powers of ten of the axis with their cells.
func (s Scale) Ticks() (at []int, of []time.Duration) {
	for d := s.Lo; d <= s.Hi; d *= 10 {
		i := s.At(d)
		if d == s.Hi {
			i = s.Cells
		}
		at, of = append(at, i), append(of, d)
	}
	return at, of
}
