package report

import (
	"fmt"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
)

// sayGaps warns of stretches in which the driver itself stalled, and of what they touched.
func sayGaps(r *record.Run, b *measure.Beside, on spoils) {
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
	touched := r.Touched()
	text := fmt.Sprintf("the driver itself stalled %s", count(len(r.Self.Gaps), "time", "times"))
	if len(r.Self.Gaps) > 1 {
		text += fmt.Sprintf(", for %s in all", figure.Duration(total))
	}
	if touched == 0 {
		on([]*[]string{&b.Rates}, "%s, at %.2f s for %s, while no invocation was in flight", text,
			longest.From.Seconds(),
			figure.Duration(longest.To.Sub(longest.From)))
		return
	}
	on([]*[]string{&b.Latency, &b.Start, &b.Rates},
		"%s, at %.2f s for %s: up to that much of the times of %s in flight is the driver's, not the "+
			"function's (marked in the list of invocations and in the CSV)",
		text, longest.From.Seconds(), figure.Duration(longest.To.Sub(longest.From)),
		count(touched, "invocation", "invocations"))
}

// Bounds beyond which the driver's own part in the figures is worth a warning.
const (
	lateDriver = 2.0  // ms
	busyShare  = 0.85 // of the processors
	// of the processors; at 1 % and less, arrivals stayed within 0.7 ms (p99), at 5 % they were 8 ms late
	stolenShare = 0.02
	slowEcho    = 1.0 // ms, the 95th percentile of round trips
	lateTimer   = 2.0 // ms
	jumped      = time.Second
)

// spoils adds a warning to a summary, and to the figures that it spoils.
type spoils func(figures []*[]string, format string, args ...any)

// HoldsBack names what holds the second piece of a reply back, and what to do.
const HoldsBack = "(Nagle's algorithm and delayed acknowledgement). Write headers and body at once, or set TCP_NODELAY"

// inTwoPieces counts for each function the replies that the network held back; 0 where they are not most.
func inTwoPieces(r *record.Run) []int {
	out, all := make([]int, len(r.Functions)), make([]int, len(r.Functions))
	for i := range r.Invocations {
		v := &r.Invocations[i]
		if v.Result != engine.OK || v.Received == 0 {
			continue
		}
		all[v.Function]++
		if v.HeldBack() {
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
func warn(a *measure.Analysis) {
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
	if stolen := s.Driver.Stolen; stolen > stolenShare {
		on(of{latency, start, rates}, "the host of this virtual machine gave %.0f %% of its processors' time to "+
			"others; no program here can be closed against that. Run it again when the host is calmer, or elsewhere",
			100*stolen)
	}
	if busy := s.Driver.Busy; busy != nil && *busy > busyShare {
		on(of{latency, start}, "the machine's processors were %.0f %% busy; functions and driver waited for each "+
			"other, so times are longer than on a calmer machine", *busy*100)
	}
	if before, during := s.Driver.EchoBefore.P50, s.Driver.EchoDuring.P95; before != nil && during != nil &&
		*during > slowEcho && *during > 4**before {
		on(of{latency, start}, "a bare round trip, without any function, took up to %s ms during the run (p95), and "+
			"%s ms before it: that much of a latency may be the machine's. Close other programs, or lower the rate",
			figure.Millis(during), figure.Millis(before))
	}
	if t := s.Driver.TimerP99; t != nil && *t > lateTimer {
		on(of{latency, rates}, "timers fire up to %s ms late on this machine, so no event can be more "+
			"exact than that. Virtual machines that share their processors do this; a quieter machine does not",
			figure.Millis(t))
	}
	if r.Self != nil && (r.Self.Jump > jumped || r.Self.Jump < -jumped) {
		on(of{rates}, "the wall clock jumped by %v during the run: it was set, or the machine slept. Times "+
			"within the run come from a monotonic clock and are not affected; what happened during a sleep is missing",
			text.Measured(r.Self.Jump))
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
	for i, n := range inTwoPieces(r) {
		if n > 0 {
			on(of{latency},
				"%s: %s arrived in two pieces about 40 ms apart: the function writes its reply in two steps, and the "+
					"network holds back the second until the first is acknowledged "+HoldsBack,
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
	for _, w := range append(warnUpstreams(r, s), warnSpans(r)...) {
		on(nil, "%s", w)
	}
	s.Warnings = append(s.Warnings, r.Notes...)
}
