package measure

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/stats"
	"nightdrill/internal/core/text"
)

// Load is the load on all functions together, and how it was handled.
type Load struct {
	Offered   *float64 `json:"offered_per_s"`   // events from outside, from the first due to the last
	Completed *float64 `json:"completed_per_s"` // deliveries done, from the first due to the last end
	Most      int      `json:"most_instances"`
	MostAfter *float64 `json:"most_after_s"` // from the first due
	// from the last due until no more than keep_warm were left; nil when the run ended before
	Rest *float64 `json:"rest_after_s"`
}

// load computes rates, and how instances came and went.
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
			if rest = c.at; c.over { // everything is stopped then: that is not a rest
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

// touched counts the invocations that were in flight while the driver itself did not run.
func (r *Run) touched() (n int) {
	for i := range r.Invocations {
		if v := &r.Invocations[i]; r.Stood(v.began(), v.Done) > 0 {
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

// sayGaps warns of stretches in which the driver itself stalled, and of what they touched.
func sayGaps(r *Run, b *Beside, on spoils) {
	if r.Self == nil || len(r.Self.Gaps) == 0 {
		return
	}
	longest := r.Self.Gaps[0]
	total := time.Duration(0)
	for _, g := range r.Self.Gaps {
		total += g.To.Sub(g.From)
		if g.To.Sub(g.From) > longest.To.Sub(longest.From) {
			longest = g
		}
	}
	touched := r.touched()
	text := fmt.Sprintf("the driver itself stalled %s", count(len(r.Self.Gaps), "time", "times"))
	if len(r.Self.Gaps) > 1 {
		text += fmt.Sprintf(", for %s in all", DurationText(total))
	}
	if touched == 0 {
		on([]*[]string{&b.Rates}, "%s, at %.2f s for %s, while no invocation was in flight", text, longest.From.Seconds(),
			DurationText(longest.To.Sub(longest.From)))
		return
	}
	on([]*[]string{&b.Latency, &b.Start, &b.Rates},
		"%s, at %.2f s for %s: up to that much of the times of %s that were in flight is the driver's, not the "+
			"function's (marked in the list of invocations and in the CSV)",
		text, longest.From.Seconds(), DurationText(longest.To.Sub(longest.From)),
		count(touched, "invocation", "invocations"))
}

// driver measures how well the driver kept to the plan.
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
		if !stats.Enough(q, len(all)) {
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
		s.Driver.EchoBefore = figures(stats.Of(r.Self.Before), stats.Independent)
		s.Driver.EchoDuring = figures(stats.Of(r.Self.During), stats.Independent)
		s.Driver.TimerP99 = value(slices.Clone(r.Self.Timer), 0.95)
	}
}

// Text describes how well the driver kept to the plan.
func (d *DriverFigures) Text() string {
	if d.LagP99 == nil {
		return fmt.Sprintf("driver delay: too few events for a percentile (p99 needs %d)", stats.Need(0.99))
	}
	text := "driver delay (p99): events taken " + MillisText(d.LagP99) + " ms after they were due"
	if d.SendLagP99 != nil {
		text += ", sent " + MillisText(d.SendLagP99) + " ms after"
	}
	return text
}

// Bounds beyond which the driver's own part in the figures is worth a warning.
const (
	lateDriver = 2.0  // ms
	busyShare  = 0.85 // of the processors
	slowEcho   = 1.0  // ms, the 95th percentile of round trips
	lateTimer  = 2.0  // ms
	jumped     = time.Second
)

// spoils adds a warning to a summary, and to the figures that it spoils.
type spoils func(figures []*[]string, format string, args ...any)

// inTwoPieces counts for each function the replies that came in two pieces as far apart
// as a delayed acknowledgement waits on Linux (40 ms); 0 where they are not most.
func (r *Run) inTwoPieces() []int {
	out, all := make([]int, len(r.Functions)), make([]int, len(r.Functions))
	for i := range r.Invocations {
		v := &r.Invocations[i]
		if v.Result != engine.OK || v.Received == 0 {
			continue
		}
		all[v.Function]++
		if d := v.Done.Sub(v.Received); d > 36*time.Millisecond && d < 56*time.Millisecond {
			out[v.Function]++
		}
	}
	for fn, n := range out {
		if n < 6 || 2*n <= all[fn] {
			out[fn] = 0
		}
	}
	return out
}

// warn adds what spoils the figures, each next to those that it spoils.
func warn(a *Analysis) {
	r, s := a.Run, a.Summary
	on := func(figures []*[]string, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		s.Warnings = append(s.Warnings, text)
		for _, f := range figures {
			*f = append(*f, text)
		}
	}
	b := &s.Beside
	latency, start, rates, memory := &b.Latency, &b.Start, &b.Rates, &b.Memory
	type of = []*[]string
	if !r.Finished {
		on(nil, "the run did not finish; the figures cover what was measured until then")
	}
	sayGaps(r, b, on)
	if l := s.Driver.LagP99; l != nil && *l > lateDriver {
		on(of{latency, rates}, "events were taken up to %.1f ms late (p99); latencies count that delay. "+
			"Close other programs, or lower the rate", *l)
	}
	if l := s.Driver.SendLagP99; l != nil && *l > lateDriver && (s.Driver.LagP99 == nil ||
		*l > *s.Driver.LagP99+lateDriver) {
		on(of{latency}, "requests were sent up to %.1f ms late (p99) although an instance was free; "+
			"latencies count that delay. Close other programs, or lower the rate", *l)
	}
	if busy := s.Driver.Busy; busy != nil && *busy > busyShare {
		on(of{latency, start}, "the machine's processors were %.0f %% busy; functions and driver waited for each other, so times "+
			"are longer than on a calmer machine", *busy*100)
	}
	if before, during := s.Driver.EchoBefore.P50, s.Driver.EchoDuring.P95; before != nil && during != nil &&
		*during > slowEcho && *during > 4**before {
		on(of{latency, start}, "a bare round trip, without any function, took up to %s ms during the run (p95), and %s ms before "+
			"it: that much of a latency may be the machine's. Close other programs, or lower the rate",
			MillisText(during), MillisText(before))
	}
	if t := s.Driver.TimerP99; t != nil && *t > lateTimer {
		on(of{latency, rates}, "timers fire up to %s ms late on this machine, so no event can be more "+
			"exact than that. Virtual machines that share their processors do this; a quieter machine does not",
			MillisText(t))
	}
	if r.Self != nil && (r.Self.Jump > jumped || r.Self.Jump < -jumped) {
		on(of{rates}, "the wall clock jumped by %v during the run: it was set, or the machine slept. Times "+
			"within the run come from a monotonic clock and are not affected; what happened during a sleep is missing",
			text.Duration(r.Self.Jump.Round(time.Millisecond)))
	}
	for i := range r.Sources {
		if r.Sources[i].Closed && s.Sources[r.Sources[i].Name].Arrived > 0 {
			on(of{rates}, "source %s was fed by callers who wait for their replies (closed loop): a slow "+
				"reply also delays what follows", r.Sources[i].Name)
		}
	}
	for i := range r.Functions {
		if f := &r.Functions[i]; strings.HasPrefix(f.Enforced, "not enforced") {
			on(of{memory}, "the bounds of %s are %s", f.Name, f.Enforced)
		}
	}
	for i, n := range r.inTwoPieces() {
		if n > 0 {
			on(of{latency},
				"%s: %s arrived in two pieces about 40 ms apart: the function writes its reply in two steps, and the "+
					"network "+
					"holds back the second until the first is acknowledged (Nagle's algorithm and delayed "+
					"acknowledgement). Write "+
					"headers and body at once, or set TCP_NODELAY",
				r.Functions[i].Name, count(n, "reply", "replies"))
		}
	}
	for i := range r.Functions {
		if f := &r.Functions[i]; f.Attached {
			on(of{start},
				"%s was started elsewhere: its starts are not measured, and none of its invocations counts as cold",
				f.Name)
		}
	}
	s.Warnings = append(s.Warnings, r.Notes...)
}
