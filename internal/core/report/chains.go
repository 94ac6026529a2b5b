package report

import (
	"fmt"
	"strings"

	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
)

// sayChains adds sentences on chains, faults and second deliveries.
func sayChains(s *measure.Summary, r *record.Run, to *[]Finding) {
	for i := range r.Sources {
		name := r.Sources[i].Name
		say := voice{to: to, source: name}.say
		c, ok := s.Chains[name]
		switch {
		case !ok:
		case c.Latency.P50 != nil:
			say("%s started %s of up to %d steps: %s ms (median) from the first event to the end of the last step.",
				name, count(c.Latency.N, "chain", "chains"), c.Steps, figure.Millis(c.Latency.P50))
		default:
			say("%s started %s of up to %d steps: at most %s ms from the first event to the end of the last step.",
				name, count(c.Latency.N, "chain", "chains"), c.Steps, figure.Millis(c.Latency.Max))
		}
		if ok && c.Broken > 0 {
			say("%s: %s had a failing step (at %s).", name, count(c.Broken, "chain", "chains"),
				strings.Join(c.FailedAt, ", "))
		}
	}
	say := voice{to: to}.say
	var faults []string
	for _, name := range fault.Names {
		if n := s.Faults[name]; n > 0 {
			faults = append(faults, fmt.Sprintf("%s %d", name, n))
		}
	}
	if faults != nil {
		say("Injected delivery faults: %s.", strings.Join(faults, ", "))
	}
	switch x := s.Idempotence; {
	case x == nil:
	case x.Twice == 0:
		say("Nothing was delivered twice, so idempotence could not be assessed.")
	case x.Differed == 0:
		say("All %d second deliveries got the same reply as the first.", x.Twice)
	default:
		say("%d of %d second deliveries got a different reply from the first: %s.", x.Differed, x.Twice, x.Which[0])
	}
}
