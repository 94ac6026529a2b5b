// Package figure writes measured numbers, with the digits that count.
package figure

import (
	"math"
	"strconv"
	"time"
)

// Milliseconds returns a duration in milliseconds, to the nanosecond.
func Milliseconds(d time.Duration) float64 { return float64(d) / 1e6 }

// Millis writes milliseconds with three digits that count, to the microsecond at most, or a dash where there is no
// figure.
func Millis(v *float64) string {
	switch {
	case v == nil:
		return "–"
	case *v >= 0.0005 && *v < 0.0995:
		return strconv.FormatFloat(*v, 'f', 3, 64)
	case *v < 10:
		return strconv.FormatFloat(*v, 'f', 2, 64)
	case *v < 100:
		return strconv.FormatFloat(*v, 'f', 1, 64)
	}
	return strconv.FormatFloat(*v, 'f', 0, 64)
}

// Between writes an interval of milliseconds, or a dash where there is none.
func Between(lo, hi *float64) string {
	if lo == nil || hi == nil {
		return "–"
	}
	return Millis(lo) + " – " + Millis(hi)
}

// Percent writes a share, with the digits that count.
func Percent(share float64) string {
	switch v := share * 100; {
	case v < 9.95:
		return strconv.FormatFloat(v, 'f', 1, 64) + " %"
	default:
		return strconv.FormatFloat(v, 'f', 0, 64) + " %"
	}
}

// Signed writes a share with its sign; "missed" for one without bound.
func Signed(share float64) string {
	switch {
	case math.IsInf(share, -1):
		return "missed"
	case math.Signbit(share):
		return "−" + Percent(-share)
	}
	return "+" + Percent(share)
}

// Ratio writes a ratio with three significant digits.
func Ratio(v float64) string {
	switch {
	case v <= 0 || math.IsInf(v, 0):
		return "–"
	case v < 0.1:
		return Small(v)
	case v < 10:
		return strconv.FormatFloat(v, 'f', 2, 64)
	case v < 100:
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'f', 0, 64)
}

// Duration writes a duration in milliseconds with three digits that count.
func Duration(d time.Duration) string { return Millis(new(Milliseconds(d))) + " ms" }

// Small formats a number below 1 with three significant digits, and without an exponent.
func Small(v float64) string {
	if v <= 0 || v >= 1 {
		return strconv.FormatFloat(v, 'f', 2, 64)
	}
	return strconv.FormatFloat(v, 'f', int(-math.Floor(math.Log10(v)))+2, 64)
}

// Count returns a number of things, in millions where it is one or more.
func Count(n float64) string {
	switch {
	case n >= 1e9:
		return grouped(n/1e6) + " million"
	case n >= 1e6:
		digits := 2
		for v := n / 1e6; v >= 10; v /= 10 {
			digits--
		}
		return strconv.FormatFloat(n/1e6, 'f', digits, 64) + " million"
	}
	return grouped(n)
}

// Brief returns a number of things in at most five characters: from 100,000 on in thousands or in millions, with
// three digits.
func Brief(n int) string {
	switch {
	case n < 100_000:
		return strconv.Itoa(n)
	case n < 999_500:
		return strconv.Itoa((n+500)/1000) + "k"
	}
	digits := 2
	for v := float64(n) / 1e6; v >= 9.995 && digits > 0; v /= 10 {
		digits--
	}
	return strconv.FormatFloat(float64(n)/1e6, 'f', digits, 64) + "M"
}

// grouped writes a whole number with a comma before each three digits.
func grouped(n float64) string {
	text := strconv.FormatFloat(n, 'f', 0, 64)
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}
