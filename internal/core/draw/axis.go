package draw

import (
	"math"
	"strconv"
	"time"
)

// Axis maps values to places from 0 to 1, evenly or by their logarithm.
type Axis struct {
	Lo, Hi float64
	Log    bool
}

// Linear returns an axis from 0 to a round number that is not less than any value.
func Linear(most float64) Axis {
	if most <= 0 {
		return Axis{0, 1, false}
	}
	step := roundStep(most / 4)
	return Axis{0, math.Ceil(most/step-1e-9) * step, false}
}

// roundStep returns 1, 2 or 5 times a power of ten that is not less than a value.
func roundStep(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{1, 2, 5} {
		if m*power >= v*(1-1e-9) {
			return m * power
		}
	}
	return 10 * power
}

// Logarithmic returns an axis whose ends are 1, 2 or 5 times a power of ten, around all
// values; they are above 0.
func Logarithmic(least, most float64) Axis {
	if least <= 0 || most <= 0 {
		return Axis{1, 10, true}
	}
	hi := roundStep(most)
	lo := 1 / roundStep(1/least)
	if hi < lo*2 {
		hi = lo * 10
	}
	return Axis{lo, hi, true}
}

// At returns the place of a value; what lies outside is at an end.
func (a Axis) At(v float64) float64 {
	if a.Hi <= a.Lo {
		return 0
	}
	if a.Log {
		return min(max(math.Log(max(v, a.Lo)/a.Lo)/math.Log(a.Hi/a.Lo), 0), 1)
	}
	return min(max((v-a.Lo)/(a.Hi-a.Lo), 0), 1)
}

// Value is the other way round.
func (a Axis) Value(at float64) float64 {
	if a.Log {
		return a.Lo * math.Pow(a.Hi/a.Lo, at)
	}
	return a.Lo + (a.Hi-a.Lo)*at
}

// Tick is a value on an axis that is written beside it.
type Tick struct {
	At    float64
	Value float64
}

// Ticks returns about four values, round ones; on a logarithmic axis the powers of ten,
// and where these are few, twice and five times them.
func (a Axis) Ticks() (out []Tick) {
	if !a.Log {
		step := roundStep((a.Hi - a.Lo) / 4)
		for k := math.Ceil(a.Lo / step); k*step <= a.Hi*(1+1e-9); k++ {
			out = append(out, Tick{a.At(k * step), k * step})
		}
		return out
	}
	few := math.Log10(a.Hi/a.Lo) < 2.5
	for power := math.Pow(10, math.Floor(math.Log10(a.Lo)+1e-9)); power <= a.Hi*(1+1e-9); power *= 10 {
		for _, m := range []float64{1, 2, 5} {
			if v := m * power; (m == 1 || few) && v >= a.Lo*(1-1e-9) && v <= a.Hi*(1+1e-9) {
				out = append(out, Tick{a.At(v), v})
			}
		}
	}
	return out
}

// Short writes a value of an axis as briefly as it goes.
func Short(v float64) string {
	switch {
	case v >= 1e6:
		return strconv.FormatFloat(v/1e6, 'g', 3, 64) + " M"
	case v >= 1e4:
		return strconv.FormatFloat(v/1e3, 'g', 3, 64) + " k"
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

// ShortMillis writes milliseconds in the unit that suits them.
func ShortMillis(ms float64) string {
	d := time.Duration(ms * 1e6)
	switch {
	case d >= time.Second:
		return strconv.FormatFloat(d.Seconds(), 'g', 3, 64) + " s"
	case d >= time.Millisecond:
		return strconv.FormatFloat(ms, 'g', 3, 64) + " ms"
	}
	return strconv.FormatFloat(ms*1e3, 'g', 3, 64) + " µs"
}
