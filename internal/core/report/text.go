package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// DriverText describes how well the driver kept to the plan.
func DriverText(d *measure.DriverFigures) string {
	if d.LagP99 == nil {
		return fmt.Sprintf("driver delay: too few events for a percentile (p99 needs %d)", stats.Need(0.99))
	}
	text := "driver delay (p99): events taken " + figure.Millis(d.LagP99) + " ms after they were due"
	if d.SendLagP99 != nil {
		text += ", sent " + figure.Millis(d.SendLagP99) + " ms after"
	}
	return text
}

// FailureText describes one failed delivery in a line.
func FailureText(f *record.Failure) string {
	parts := []string{f.What}
	if f.Status > 0 {
		parts = append(parts, fmt.Sprintf("status %d", f.Status))
	} else if f.Result != "" {
		parts = append(parts, f.Result)
	}
	parts = append(parts, count(f.Attempts, "attempt", "attempts"), fmt.Sprintf("due at %.2f s", f.DueSeconds))
	if f.LastLine != "" {
		parts = append(parts, "last log line: "+f.LastLine)
	}
	return strings.Join(parts, " · ")
}

// CauseText describes a cause and the number of its deliveries.
func CauseText(c *record.FailureCause) string {
	of := c.Source
	if c.Function != "" {
		of += " → " + c.Function
	}
	return fmt.Sprintf("%s: %d × %s", of, c.Count, c.Cause)
}

// TurnLines describes what happened to the events, in words.
func TurnLines(t *record.Turns) (out []string) {
	if t.Other == 0 {
		return []string{fmt.Sprintf("All %s had the same outcome.", count(t.Same, "event", "events"))}
	}
	out = append(out, fmt.Sprintf("%d of %s had a different outcome:", t.Other, count(t.Same+t.Other, "event",
		"events")))
	for _, what := range slices.Sorted(maps.Keys(t.Between)) {
		out = append(out, fmt.Sprintf("%d %s;", t.Between[what], what))
	}
	return slices.Concat(out, t.Which)
}

// rejectedBy returns why a source's requests were rejected, the most common first; "" where the run
// does not hold it.
func rejectedBy(r *record.Run, source int32) string {
	var times [engine.Causes]int
	for i := range r.Deliveries {
		if d := &r.Deliveries[i]; d.Source == source && d.Outcome == engine.Rejected {
			times[d.Cause]++
		}
	}
	return RefusalsText(&times)
}

// RefusalsText describes how many were rejected by what, the most common first.
func RefusalsText(times *[engine.Causes]int) string {
	var causes []engine.Cause
	for c, n := range times {
		if n > 0 && engine.Cause(c) != engine.NoCause {
			causes = append(causes, engine.Cause(c))
		}
	}
	slices.SortStableFunc(causes, func(a, b engine.Cause) int { return times[b] - times[a] })
	var parts []string
	for _, c := range causes {
		by := "by"
		if c == engine.TurnedAway || c == engine.PlacesHeld {
			by = "while"
		}
		parts = append(parts, fmt.Sprintf("%d %s %s", times[c], by, c))
	}
	return strings.Join(parts, ", ")
}

// WarmUpText returns how a function warms up, or what is missing to tell.
func WarmUpText(w *measure.WarmUp) string {
	switch {
	case w.Steady != nil && *w.Steady == 1:
		return "as fast the first time as later"
	case w.Steady != nil && w.Gain != nil:
		return fmt.Sprintf("warm from the %s on; the first takes × %s", Ordinal(*w.Steady), figure.Ratio(*w.Gain))
	case w.Instances() < measure.LeastInstances:
		return fmt.Sprintf("%s: too few samples (needs %d)", count(w.Instances(), "instance", "instances"),
			measure.LeastInstances)
	}
	return "too few invocations to tell"
}
