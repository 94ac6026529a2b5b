// Package clock defines the only notion of time that the core knows: nanoseconds since a run began.
// It reads no clock; whoever runs the engine supplies the time, from a monotonic clock or from a
// simulation.
package clock

import (
	"math"
	"time"
)

// Time is a moment of a run, in nanoseconds since the run began.
type Time int64

// Never is later than every moment of a run.
const Never Time = math.MaxInt64

// Add returns the moment d after t. Never plus anything is Never.
func (t Time) Add(d time.Duration) Time {
	if t == Never || int64(d) > int64(Never-t) {
		return Never
	}
	return t + Time(d)
}

// Sub returns the time from u to t.
func (t Time) Sub(u Time) time.Duration { return time.Duration(t - u) }

// Seconds returns t as seconds since the run began.
func (t Time) Seconds() float64 { return time.Duration(t).Seconds() }

// String formats t as a duration since the run began, such as "1.25s".
func (t Time) String() string {
	if t == Never {
		return "never"
	}
	return time.Duration(t).String()
}
