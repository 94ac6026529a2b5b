package measure

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"nightdrill/internal/core/clock"
)

// Load is what was asked of the functions together, and what became of it.
type Load struct {
	Offered   *float64 `json:"offered_per_s"`   // events from outside, from the first due to the last
	Completed *float64 `json:"completed_per_s"` // deliveries done, from the first due to the last end
	Most      int      `json:"most_instances"`
	MostAfter *float64 `json:"most_after_s"` // from the first due
	Rest      *float64 `json:"rest_after_s"` // from the last due until no more than keep_warm were left; nil when the run ended before
}

// load works out rates, and how instances came and went.
func (r *Run) load(s *Summary, seen *scan) {
	first, last := seen.first, seen.last
	rate := func(n int, until clock.Time) *float64 {
		if until <= first || n < 2 {
			return nil
		}
		v := float64(n) / until.Sub(first).Seconds()
		return &v
	}
	s.Load.Offered, s.Load.Completed = rate(seen.outside, last), rate(s.Events.Done, seen.ended)
	keep := 0
	for i := range r.Functions {
		keep += r.Functions[i].KeepWarm
	}
	n := 0
	var at, rest clock.Time
	for _, c := range r.comings(func(in *Instance) bool {
		return !r.Functions[in.Function].OneShot && !r.Functions[in.Function].Attached
	}) {
		was := n
		if n += c.by; n > s.Load.Most {
			s.Load.Most, at = n, c.at
		}
		if was > keep && n == keep {
			if rest = c.at; c.over { // everything is stopped then: that is no rest
				rest = 0
			}
		}
	}
	if s.Load.Most > 0 && first != clock.Never {
		v := max(at.Sub(first), 0).Seconds()
		s.Load.MostAfter = &v
	}
	if rest > last && last >= 0 && n <= keep {
		v := rest.Sub(last).Seconds()
		s.Load.Rest = &v
	}
}

// SelfCheck is what the driver measured of itself and the machine.
type SelfCheck struct {
	Before []time.Duration `json:"echo_before"` // round trips to a built-in echo, before the run
	During []time.Duration `json:"echo_during"` // and while it went on
	Timer  []time.Duration `json:"timer"`       // how late timers of the driver's kind rang, before the run
	Jump   time.Duration   `json:"jump"`        // of the clock on the wall, against the monotonic one, over the run
}

// driver says how well the driver kept to the plan.
func (r *Run) driver(s *Summary, at []int32) {
	lag := make([]time.Duration, 0, len(r.Arrivals))
	send := make([]time.Duration, 0, len(r.Arrivals))
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.From < 0 {
			lag = append(lag, a.Arrived.Sub(a.Due))
		}
	}
	for i := range r.Attempts {
		a := &r.Attempts[i]
		if a.N != 1 || int(a.Event) >= len(r.Arrivals) {
			continue
		}
		inv, arrival := r.invocation(at, a.Invocation), &r.Arrivals[a.Event]
		if inv != nil && inv.Sent > 0 && arrival.From < 0 && inv.Assigned == arrival.Arrived {
			send = append(send, inv.Sent.Sub(arrival.Due))
		}
	}
	value := func(all []time.Duration, q float64) *float64 {
		if !Enough(q, len(all)) {
			return nil
		}
		v := Millis(quantileOf(all, q))
		return &v
	}
	s.Driver = DriverFigures{LagP50: value(lag, 0.5), LagP99: value(lag, 0.99), SendLagP99: value(send, 0.99)}
	if !math.IsNaN(r.Busy) {
		busy := math.Round(r.Busy*1000) / 1000
		s.Driver.Busy = &busy
	}
	if r.Self != nil {
		s.Driver.EchoBefore = figures(&Population{inOrder: r.Self.Before}, true)
		s.Driver.EchoDuring = figures(&Population{inOrder: r.Self.During}, true)
		s.Driver.TimerP99 = value(slices.Clone(r.Self.Timer), 0.95)
	}
}

// Bounds beyond which the driver's own part in the figures is worth a word.
const (
	lateDriver = 2.0  // ms
	busyShare  = 0.85 // of the processors
	slowEcho   = 1.0  // ms, the 95th percentile of round trips
	lateTimer  = 2.0  // ms
	jumped     = time.Second
)

// Kinds of figures that a warning may be about.
const (
	OnLatency = "latency"
	OnStart   = "start"
	OnRates   = "rates"
	OnMemory  = "memory"
)

// warn adds what spoils the figures, each next to those that it spoils.
func (r *Run) warn(s *Summary) {
	s.Beside = map[string][]string{}
	on := func(kinds []string, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		s.Warnings = append(s.Warnings, text)
		for _, k := range kinds {
			s.Beside[k] = append(s.Beside[k], text)
		}
	}
	times := []string{OnLatency, OnStart}
	if !r.Finished {
		on(nil, "the run did not come to its end; the figures cover what was measured until then")
	}
	if l := s.Driver.LagP99; l != nil && *l > lateDriver {
		on([]string{OnLatency, OnRates}, "events were taken up to %.1f ms late (p99); latencies count that delay. Close other programs, or lower the rate", *l)
	}
	if l := s.Driver.SendLagP99; l != nil && *l > lateDriver && (s.Driver.LagP99 == nil || *l > *s.Driver.LagP99+lateDriver) {
		on([]string{OnLatency}, "requests were sent up to %.1f ms late (p99) although an instance was free; latencies count that delay. Close other programs, or lower the rate", *l)
	}
	if b := s.Driver.Busy; b != nil && *b > busyShare {
		on(times, "the machine's processors were %.0f %% busy; functions and driver waited for each other, so times are longer than on a calmer machine", *b*100)
	}
	if before, during := s.Driver.EchoBefore.P50, s.Driver.EchoDuring.P95; before != nil && during != nil && *during > slowEcho && *during > 4**before {
		on(times, "a bare round trip, with no function in it, took up to %s ms while the run went on (p95), and %s ms before: that much of a latency may be the machine's. Close other programs, or lower the rate", MillisText(during), MillisText(before))
	}
	if t := s.Driver.TimerP99; t != nil && *t > lateTimer {
		on([]string{OnLatency, OnRates}, "timers ring up to %s ms late on this machine: no event comes more exactly than that. A virtual machine that shares its processors does this; a quieter machine does not", MillisText(t))
	}
	if r.Self != nil && (r.Self.Jump > jumped || r.Self.Jump < -jumped) {
		on([]string{OnRates}, "the clock on the wall jumped by %v while the run went on: it was set, or the machine slept. Times within the run come from another clock, and are not touched; what happened in a sleep is missing", r.Self.Jump.Round(time.Millisecond))
	}
	for i := range r.Sources {
		if r.Sources[i].Closed && s.Sources[r.Sources[i].Name].Arrived > 0 {
			on([]string{OnRates}, "source %s was fed by callers who wait for their answers (closed loop): a slow answer also delays what comes next", r.Sources[i].Name)
		}
	}
	for i := range r.Functions {
		if f := &r.Functions[i]; strings.HasPrefix(f.Enforced, "not enforced") {
			on([]string{OnMemory}, "what an instance of %s may use is %s", f.Name, f.Enforced)
		}
	}
	for i := range r.Functions {
		if f := &r.Functions[i]; f.Attached {
			on([]string{OnStart}, "%s was started by somebody else: its starts are not measured, and none of its answers counts as cold.", f.Name)
		}
	}
	s.Warnings = append(s.Warnings, r.Notes...)
}
