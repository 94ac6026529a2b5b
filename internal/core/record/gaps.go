package record

import (
	"sort"
	"time"

	"nightdrill.dev/internal/core/clock"
)

// SelfCheck is what the driver measured of itself and the machine.
type SelfCheck struct {
	Before []time.Duration `json:"echo_before"` // round trips to a built-in echo, before the run
	During []time.Duration `json:"echo_during"` // and while it went on
	Timer  []time.Duration `json:"timer"`       // how late timers of the driver's kind fired, before the run
	Jump   time.Duration   `json:"jump"`        // of the wall clock against the monotonic one, over the run
	Gaps   []Gap           `json:"gaps"`        // in which the driver itself did not run
}

// Gap is a stretch in which the driver itself did not run: it was stopped, or the system
// gave it no processor. What ended within it was noticed only at its end.
type Gap struct {
	From clock.Time `json:"from"`
	To   clock.Time `json:"to"`
}

// within returns how much of the time from one moment to another lies in gaps, which are
// in order.
func within(gaps []Gap, from, to clock.Time) (all time.Duration) {
	first := sort.Search(len(gaps), func(i int) bool { return gaps[i].To > from })
	for _, g := range gaps[first:] {
		if g.From >= to {
			break
		}
		all += min(to, g.To).Sub(max(from, g.From))
	}
	return all
}

// Touched counts the invocations that were in flight while the driver itself did not run.
func (r *Run) Touched() (n int) {
	for i := range r.Invocations {
		if v := &r.Invocations[i]; r.Stood(v.Began(), v.Done) > 0 {
			n++
		}
	}
	return n
}

// Stood returns how long the driver itself did not run during a stretch.
func (r *Run) Stood(from, to clock.Time) time.Duration {
	if r.Self == nil {
		return 0
	}
	return within(r.Self.Gaps, from, to)
}
