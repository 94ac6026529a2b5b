package measure

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill/internal/core/engine"
)

// MillisText writes milliseconds with three digits that count, or a dash where
// there is no figure.
func MillisText(v *float64) string {
	switch {
	case v == nil:
		return "–"
	case *v < 10:
		return strconv.FormatFloat(*v, 'f', 2, 64)
	case *v < 100:
		return strconv.FormatFloat(*v, 'f', 1, 64)
	}
	return strconv.FormatFloat(*v, 'f', 0, 64)
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

// RatioText writes a ratio with three digits that count.
func RatioText(v float64) string {
	switch {
	case v < 0.1:
		return strconv.FormatFloat(v, 'g', 2, 64)
	case v < 10:
		return strconv.FormatFloat(v, 'f', 2, 64)
	case v < 100:
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'f', 0, 64)
}

// State says in a word what became of a budget.
func (v *Verdict) State() string {
	switch {
	case v.Held:
		return "held"
	case v.Few:
		return "not enough samples"
	}
	return "missed"
}

// Says says what was measured of a budget, or why nothing was.
func (v *Verdict) Says() string {
	if v.Measured == nil {
		return v.Why
	}
	one := func(x *float64) string {
		switch v.Unit {
		case "ms":
			return MillisText(x)
		case "%", "MiB", "/s":
			return strings.TrimRight(strings.TrimRight(strconv.FormatFloat(*x, 'f', 2, 64), "0"), ".")
		case "times":
			return RatioText(*x)
		}
		if *x > 0 && *x < 1 { // a cost
			return small(*x)
		}
		return strconv.FormatFloat(*x, 'g', 6, 64)
	}
	text := "measured " + one(v.Measured)
	if v.Lo != nil && v.Hi != nil {
		text += ", between " + one(v.Lo) + " and " + one(v.Hi)
	}
	switch v.Unit {
	case "":
		return text
	case "/s":
		return text + "/s"
	}
	return text + " " + v.Unit
}

// DurationText writes a duration in milliseconds with three digits that count.
func DurationText(d time.Duration) string { return MillisText(new(Millis(d))) + " ms" }

// VerdictText says whether a budget was held and what was measured.
func VerdictText(v Verdict) string {
	state := v.State()
	if v.Few { // its reason says so
		state = "open"
	}
	return fmt.Sprintf("%-6s  %s  (%s)", state, v.Text, v.Says())
}

// sentences gives the answer of a run in sentences: which budget was missed, how
// long cold and warm took and why, what waited, what was turned away or lost.
func (r *Run) sentences(s *Summary, at []int32) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if !r.Finished {
		say("This run did not come to its end: what follows is what was measured until then.")
	}
	for _, v := range s.Budgets {
		if !v.Held && !v.Few {
			say("The budget “%s” was missed: %s.", v.Text, v.Says())
		}
	}
	for i := range r.Functions {
		f := s.Functions[r.Functions[i].Name]
		r.sayFunction(&r.Functions[i], &f, say)
		r.sayWhy(int32(i), &f, say)
	}
	r.sayWaits(at, say)
	for i := range r.Sources {
		r.saySource(int32(i), s.Sources[r.Sources[i].Name], say)
	}
	s.sayChains(r, say)
	return out
}

// sayFunction says how long a function takes, cold and warm.
func (r *Run) sayFunction(of *Function, f *FunctionFigures, say func(string, ...any)) {
	name := of.Name
	switch cold, warm := f.Latency.Cold, f.Latency.Warm; {
	case f.Start.N == 0 && f.Instances.FailedStarts > 0:
		say("%s never started: %d starts failed.", name, f.Instances.FailedStarts)
	case f.Attempts == 0:
		say("%s was not asked.", name)
	case cold.P50 != nil && warm.P50 != nil:
		say("%s answers cold in %s ms and warm in %s ms (median); cold takes %s times as long.", name, MillisText(cold.P50), MillisText(warm.P50), ratio(*cold.P50 / *warm.P50))
	case cold.N > 0 && warm.P50 != nil:
		say("%s answers warm in %s ms (median); %s cold, at most %s ms.", name, MillisText(warm.P50), count(cold.N, "answer was", "answers were"), MillisText(cold.Max))
	case warm.P50 != nil:
		say("%s answers warm in %s ms (median).", name, MillisText(warm.P50))
	case r.cold() && cold.P50 != nil:
		say("%s starts in %s ms and has answered after %s ms (median of %d).", name, MillisText(f.Start.P50), MillisText(cold.P50), cold.N)
	case r.cold() && f.Latency.First.P50 != nil:
		say("%s, kept warm, has answered after %s ms (median of %d).", name, MillisText(f.Latency.First.P50), f.Latency.First.N)
	case of.OneShot && cold.P50 != nil:
		say("%s, a process for each invocation, answers in %s ms (median of %d).", name, MillisText(cold.P50), cold.N)
	default:
		say("%s had %s: too few for a median.", name, count(cold.N+f.Latency.First.N+warm.N, "answer", "answers"))
	}
}

// saySource says what became of a source's events.
func (r *Run) saySource(i int32, c Counts, say func(string, ...any)) {
	name := r.Sources[i].Name
	if c.Rejected > 0 {
		say("%s: %d of %d requests were turned away; %s.", name, c.Rejected, c.Deliveries, r.rejectedBy(i))
	}
	if retried := r.retried(i); retried > 0 {
		say("%s: %s tried again%s.", name, count(retried, "event was", "events were"), r.mostFailed(i))
	}
	if c.DeadLettered > 0 {
		say("%s: %s after the last attempt, as dead letters.", name, count(c.DeadLettered, "event was put aside", "events were put aside"))
	}
	if c.Failed > 0 {
		say("%s: %d of %d failed%s.", name, c.Failed, c.Deliveries, r.mostFailed(i))
	}
	if c.Unexpected > 0 {
		say("%s: %s not what their payloads expect.", name, count(c.Unexpected, "answer was", "answers were"))
	}
	if c.Expired > 0 {
		say("%s: %s too long and expired.", name, count(c.Expired, "message waited", "messages waited"))
	}
	if c.Skipped > 0 {
		say("%s: %s left out, because the function was still busy with an earlier one.", name, count(c.Skipped, "time was", "times were"))
	}
	if c.Unmatched > 0 {
		say("%s: no wire took %s.", name, count(c.Unmatched, "event", "events"))
	}
	if c.Abandoned > 0 {
		why := ""
		switch n := r.unheard(i); {
		case n == c.Abandoned:
			why = ", their acknowledgements lost and their leases not run out"
		case n > 0:
			why = fmt.Sprintf("; of %d the acknowledgement was lost, and the lease had not run out", n)
		}
		say("%s: %s open when the run ended%s.", name, count(c.Abandoned, "delivery was", "deliveries were"), why)
	}
}

// unheard counts the deliveries of a source that were open at the end although
// their last attempt went well.
func (r *Run) unheard(source int32) (n int) {
	type attempt struct {
		event int64
		wire  int32
		n     int32
	}
	open := map[attempt]bool{}
	for _, d := range r.Deliveries {
		if d.Source == source && d.Outcome == engine.Abandoned {
			open[attempt{d.Event, d.Wire, d.Attempts}] = true
		}
	}
	for _, a := range r.Attempts {
		if a.Result == engine.AckLost && open[attempt{a.Event, a.Wire, a.N}] {
			n++
		}
	}
	return n
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}

func ratio(v float64) string {
	if v < 10 {
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'f', 0, 64)
}

// retried counts the deliveries of a source that had more than one attempt.
func (r *Run) retried(source int32) (n int) {
	for i := range r.Deliveries {
		if d := &r.Deliveries[i]; d.Source == source && d.Attempts > 1 {
			n++
		}
	}
	return n
}

// mostFailed says in which way most attempts of a source failed.
func (r *Run) mostFailed(source int32) string {
	var times [engine.Results]int
	for i := range r.Attempts {
		if a := &r.Attempts[i]; a.Source == source && a.Result != engine.OK {
			times[a.Result]++
		}
	}
	best := 0
	for k, n := range times {
		if n > times[best] {
			best = k
		}
	}
	if times[best] == 0 {
		return ""
	}
	return ", most often: " + engine.Result(best).String()
}

// Between writes where the median lies with 95 % certainty.
func (f *Figures) Between() string {
	if f.P50Lo == nil {
		return "–"
	}
	return MillisText(f.P50Lo) + " – " + MillisText(f.P50Hi)
}

// Words says what was changed, when; names are those of the run's functions.
func (c Change) Words(names []string) string {
	of := ""
	if c.Function >= 0 && int(c.Function) < len(names) {
		of = names[c.Function] + ": "
	}
	return fmt.Sprintf("at %.2f s  %s%s", c.At.Seconds(), of, c.Text)
}

// Lines says what became of a function's instances: how many, why they were
// started, what they used.
func (f FunctionFigures) Lines() (out []string) {
	text := fmt.Sprintf("%s started, at most %d at once, %s", count(f.Instances.Started, "instance", "instances"), f.Instances.Peak, count(f.Attempts, "attempt", "attempts"))
	for _, x := range []struct {
		n    int
		what string
	}{{f.Instances.FailedStarts, "failed starts"}, {f.Timeouts, "timed out"}, {f.Crashes, "crashes"}, {f.OutOfMemory, "out of memory"}} {
		if x.n > 0 {
			text += fmt.Sprintf(", %d %s", x.n, x.what)
		}
	}
	out = append(out, text)
	if why := mostFirst(f.Starts); why != "" {
		out = append(out, "started because "+why)
	}
	r := &f.Resources
	var parts []string
	if r.PeakMiB != nil {
		parts = append(parts, fmt.Sprintf("memory at most %.0f MiB, typically %.0f", *r.PeakMiB, *r.TypicalMiB))
		if r.MemoryMiB != nil {
			parts[0] += fmt.Sprintf(", of %.0f", *r.MemoryMiB)
		}
	} else if r.MemoryMiB != nil {
		parts = append(parts, fmt.Sprintf("memory of %.0f MiB", *r.MemoryMiB))
	}
	if r.CPU != nil || r.CPUSeconds > 0 {
		cpu := fmt.Sprintf("%.2f s of processor time", r.CPUSeconds)
		if r.CPU != nil {
			cpu += fmt.Sprintf(", at most %g of a processor each", *r.CPU)
		}
		parts = append(parts, cpu)
	}
	if r.Enforced != "" {
		parts = append(parts, "bounds "+r.Enforced)
	}
	if len(parts) > 0 {
		out = append(out, strings.Join(parts, "; "))
	}
	parts = nil
	if r.Held != nil {
		parts = append(parts, fmt.Sprintf("%s GiB·s of memory held", MillisText(r.Held)))
	}
	if r.SizeMiB != nil {
		parts = append(parts, fmt.Sprintf("%s MiB on disk", MillisText(r.SizeMiB)))
	}
	if c := f.Cost; c != nil {
		text := "cost " + c.Text(c.Total)
		if c.PerMillion != nil {
			text += ", " + c.Text(*c.PerMillion) + " for a million invocations"
		}
		if !c.MemoryKnown {
			text += ", without the memory that is not known"
		}
		parts = append(parts, text)
	}
	if len(parts) > 0 {
		out = append(out, strings.Join(parts, "; "))
	}
	return out
}

// Text writes an amount with its currency.
func (c *Cost) Text(v float64) string {
	return strings.TrimSpace(small(v) + " " + c.Currency)
}

// mostFirst writes counts by their names, the most common first.
func mostFirst(counts map[string]int) string {
	names := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(counts[b]-counts[a], strings.Compare(a, b))
	})
	for i, name := range names {
		names[i] = fmt.Sprintf("%s (%d)", name, counts[name])
	}
	return strings.Join(names, ", ")
}
