package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
	"nightdrill.dev/internal/core/text"
)

// BudgetState returns in a word whether a budget was met.
func BudgetState(v *measure.Verdict) string {
	switch {
	case v.Held:
		return "met"
	case v.Few:
		return "too few samples"
	}
	return "missed"
}

// BudgetSays describes what was measured of a budget, or why nothing was.
func BudgetSays(v *measure.Verdict) string {
	if v.Measured == nil {
		return v.Why
	}
	one := func(x *float64) string {
		switch v.Unit {
		case "ms":
			return figure.Millis(x)
		case "%", "MiB", "/s":
			return strings.TrimRight(strings.TrimRight(strconv.FormatFloat(*x, 'f', 2, 64), "0"), ".")
		case "times":
			return figure.Ratio(*x)
		}
		if *x > 0 && *x < 1 { // a cost
			return figure.Small(*x)
		}
		return strconv.FormatFloat(*x, 'g', 6, 64)
	}
	text := "measured " + one(v.Measured)
	if v.Lo != nil && v.Hi != nil {
		text += ", between " + one(v.Lo) + " and " + one(v.Hi)
	}
	interval := ""
	if v.Lo == nil && v.Needs > 0 {
		interval = fmt.Sprintf("; its interval needs %d samples", v.Needs)
	}
	switch v.Unit {
	case "":
		return text
	case "/s":
		return text + "/s"
	}
	return text + " " + v.Unit + interval
}

// VerdictText describes whether a budget was met and what was measured.
func VerdictText(v measure.Verdict) string {
	state := BudgetState(&v)
	if v.Few { // the reason follows in parentheses
		state = "no verdict"
	}
	return fmt.Sprintf("%-10s  %s  (%s)", state, v.Text, BudgetSays(&v))
}

// findings returns the answer of a run in sentences: which budget was missed, how
// long cold and warm took and why, what waited, what was rejected or lost.
func findings(a *measure.Analysis) (out []Finding) {
	r, s := a.Run, a.Summary
	run := voice{to: &out}
	if !r.Finished {
		run.say("This run did not finish: the figures cover what was measured until then.")
	}
	for _, v := range s.Budgets {
		if !v.Held && !v.Few {
			run.say("The budget “%s” was missed: %s.", v.Text, BudgetSays(&v))
			out[len(out)-1].Budget = true
		}
	}
	var unused []string
	for i := range r.Functions {
		f := s.Functions[r.Functions[i].Name]
		if idle(r, &f) {
			unused = append(unused, r.Functions[i].Name)
			continue
		}
		of := voice{to: &out, function: r.Functions[i].Name}
		sayFunction(r, &r.Functions[i], &f, &f.Outcomes, of)
		sayWhy(r, int32(i), &f, of)
		sayUpstreams(&r.Functions[i], &f, of)
		saySpans(&r.Functions[i], &f, of)
	}
	if len(unused) > 0 {
		run.say("%s received no events.", text.List(unused))
	}
	sayWaits(r, a.At, &out)
	for i := range r.Sources {
		saySource(r, int32(i), s.Sources[r.Sources[i].Name], ofSource(r, &r.Sources[i], &out))
	}
	sayChains(s, r, &out)
	return out
}

// idle reports whether nothing happened to a function in a run: it received no event and started nothing.
func idle(r *record.Run, f *measure.FunctionFigures) bool {
	return !r.Filtered && f.Attempts == 0 && f.Outcomes.Deliveries == 0 && f.Instances.Started == 0 &&
		f.Instances.FailedStarts == 0
}

// ofSource returns the voice for a source, and for its function where it has but one.
func ofSource(r *record.Run, s *record.Source, to *[]Finding) voice {
	v := voice{to: to, source: s.Name}
	if fn := onlyFunction(s); fn >= 0 {
		v.function = r.Functions[fn].Name
	}
	return v
}

// onlyFunction returns the function that all wires of a source lead to, or -1.
func onlyFunction(s *record.Source) int {
	if len(s.To) == 0 || slices.ContainsFunc(s.To, func(fn int) bool { return fn != s.To[0] }) {
		return -1
	}
	return s.To[0]
}

// sayFunction writes how long a function takes, cold and warm. Warm, what counts is its
// service time: what a delivery waited for is said apart.
func sayFunction(r *record.Run, of *record.Function, f *measure.FunctionFigures, outcomes *measure.Counts,
	v voice) {
	name, say := of.Name, v.say
	cold, first, warm, service := &f.Latency.Cold, &f.Latency.First, &f.Latency.Warm, &f.Service.Warm
	switch {
	case f.Start.N == 0 && f.Instances.FailedStarts > 0:
		say("%s never started: %s failed.", name, count(f.Instances.FailedStarts, "start", "starts"))
		v.because(NeverStarts, "never started")
	case f.Attempts == 0 && r.Filtered:
		say("%s: no invocation passes the filter.", name)
	case f.Attempts == 0 && outcomes.Rejected > 0:
		say("%s was never invoked: %s rejected.", name, count(outcomes.Rejected, "event was", "events were"))
	case f.Attempts == 0 && outcomes.Deliveries > 0:
		say("%s was never invoked: none of its %s reached it.", name, count(outcomes.Deliveries, "delivery",
			"deliveries"))
	case f.Attempts == 0:
		say("%s received no events, but started %s.", name, count(f.Start.N, "instance", "instances"))
	case cold.P50 != nil && service.P50 != nil:
		say("%s: cold %s, warm %s service time (median; %s cold).", name, msText(cold.P50), msText(service.P50),
			TimesText(*cold.P50 / *service.P50, "slower", "faster"))
	case cold.N > 0 && service.P50 != nil:
		say("%s: warm %s service time (median); %s, at most %s.", name, msText(service.P50), count(cold.N, "cold reply",
			"cold replies"), msText(cold.Max))
	case service.P50 != nil:
		say("%s: warm %s service time (median).", name, msText(service.P50))
	case r.Cold() && cold.P50 != nil:
		say("%s: ready after %s, first reply after %s (median of %d).", name, msText(f.Start.P50), msText(cold.P50),
			cold.N)
	case r.Cold() && first.P50 != nil:
		say("%s: kept warm, first reply after %s (median of %d).", name, msText(first.P50), first.N)
	case of.OneShot && cold.P50 != nil:
		say("%s: a process for each invocation, replies in %s (median of %d).", name, msText(cold.P50), cold.N)
	case cold.P50 != nil:
		say("%s: cold %s (median of %d); %s.", name, msText(cold.P50), cold.N, fewWarm(warm.N))
	case first.P50 != nil:
		say("%s: first replies of its instances %s (median of %d); %s.", name, msText(first.P50), first.N,
			fewWarm(warm.N))
	case f.Latency.Retried.P50 != nil:
		say("%s: retried deliveries took %s (median of %d); %s.", name, msText(f.Latency.Retried.P50),
			f.Latency.Retried.N,
			fewWarm(warm.N))
	default:
		say("%s: %s, too few in each class for a median (needs %d).", name, count(f.Latency.N(), "reply", "replies"),
			stats.Need(0.5))
	}
	if bad := badStatuses(f.Statuses); bad != "" {
		say("%s replied with %s.", name, bad)
		weight := BadReplies
		if failed := serverErrors(f.Statuses); float64(failed) > muchFailing*float64(f.Attempts) {
			weight = Fails
		}
		v.because(weight, "%s", bad)
	}
}

// fewWarm returns that there are too few warm answers for a median.
func fewWarm(n int) string {
	if n == 0 {
		return "no warm ones"
	}
	return fmt.Sprintf("%d warm, too few for a median (needs %d)", n, stats.Need(0.5))
}

// badStatuses writes how many answers had each status of 400 or more, "" for none.
func badStatuses(counts map[string]int) string {
	bad := map[string]int{}
	all := 0
	for status, n := range counts {
		all += n
		if code, _ := strconv.Atoi(status); code >= record.LeastBad {
			bad["status "+status] = n
		}
	}
	if len(bad) == 0 {
		return ""
	}
	return fmt.Sprintf("%s of %s", mostFirst(bad), count(all, "invocation", "invocations"))
}

// serverErrors counts the replies with a status of 500 or more.
func serverErrors(counts map[string]int) (n int) {
	for status, k := range counts {
		if status >= "500" {
			n += k
		}
	}
	return n
}

// StatusText writes how many invocations had each status, in the order of statuses.
func StatusText(counts map[string]int) string {
	var parts []string
	for _, status := range slices.Sorted(maps.Keys(counts)) {
		parts = append(parts, fmt.Sprintf("%s × %d", status, counts[status]))
	}
	return strings.Join(parts, ", ")
}

func msText(v *float64) string { return figure.Millis(v) + " ms" }

// saySource reports what happened to a source's events.
func saySource(r *record.Run, i int32, c measure.Counts, v voice) {
	name, say := r.Sources[i].Name, v.say
	if c.Rejected > 0 {
		by := rejectedBy(r, i)
		if by == "" { // a run from before causes were kept
			by = "no instance was free within the limits"
			say("%s: %d of %d requests rejected; %s.", name, c.Rejected, c.Deliveries, by)
		} else {
			say("%s: %d of %d requests rejected; no instance was free: %s.", name, c.Rejected, c.Deliveries, by)
		}
		v.because(Rejects, "%s", ofIts(by))
	}
	retried := retried(r, i)
	mostly := ""
	if retried > 0 || c.DeadLettered > 0 || c.Failed > 0 {
		mostly = mostFailed(r, i)
	}
	if retried > 0 {
		say("%s: %s retried%s.", name, count(retried, "event", "events"), mostly)
	}
	if c.DeadLettered > 0 {
		say("%s: %s dead-lettered after the last attempt.", name, count(c.DeadLettered, "event", "events"))
		v.because(Fails, "%d dead-lettered%s", c.DeadLettered, ofIts(mostly))
	}
	if c.Failed > 0 {
		say("%s: %d of %d failed%s.", name, c.Failed, c.Deliveries, mostly)
		v.because(Fails, "%d failed%s", c.Failed, ofIts(mostly))
	}
	if c.Unexpected > 0 {
		say("%s: %s %s.", name, count(c.Unexpected, "reply was unexpected: it is", "replies were unexpected: each is"),
			r.WhyUnexpected())
	}
	if c.Expired > 0 {
		say("%s: %s too long and expired.", name, count(c.Expired, "message waited", "messages waited"))
	}
	if c.Skipped > 0 {
		why := ""
		if speed := r.Sources[i].Speed; speed > 1 { // which is nothing of the function's
			why = fmt.Sprintf(", since the drill's clock runs %s times as fast as real time",
				strconv.FormatFloat(speed, 'f', -1, 64))
		}
		say("%s: %s skipped: the function was still busy with an earlier one%s.", name,
			count(c.Skipped, "scheduled run",
				"scheduled runs"), why)
	}
	if c.Unmatched > 0 {
		say("%s: %s unmatched: no wire takes them.", name, count(c.Unmatched, "event", "events"))
		v.because(Waits, "%s unmatched", count(c.Unmatched, "event", "events"))
	}
	if c.Abandoned > 0 {
		why := ""
		switch n := unheard(r, i); {
		case n == c.Abandoned:
			why = ", their acknowledgements lost and their leases still running"
		case n > 0:
			why = fmt.Sprintf("; of %d the acknowledgement was lost, and the lease had not run out", n)
		}
		say("%s: %s when the run ended%s.", name, count(c.Abandoned, "delivery was open", "deliveries were open"), why)
	}
}

// unheard counts the deliveries of a source that were open at the end although
// their last attempt went well.
func unheard(r *record.Run, source int32) (n int) {
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
func retried(r *record.Run, source int32) (n int) {
	for i := range r.Deliveries {
		if d := &r.Deliveries[i]; d.Source == source && d.Attempts > 1 {
			n++
		}
	}
	return n
}

// mostFailed describes in which way most attempts of a source failed.
func mostFailed(r *record.Run, source int32) string {
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
	if engine.Result(best) == engine.Retried {
		return ", mostly at the function's request"
	}
	return ", mostly: " + engine.Result(best).String()
}

// MedianBetween writes where the median lies with 95 % certainty.
func MedianBetween(f *measure.Figures) string {
	return figure.Between(f.P50Lo, f.P50Hi)
}

// ChangeText describes what was changed, when; names are those of the run's functions.
func ChangeText(c record.Change, names []string) string {
	of := ""
	if c.Function >= 0 && int(c.Function) < len(names) {
		of = names[c.Function] + ": "
	}
	return fmt.Sprintf("at %.2f s  %s%s", c.At.Seconds(), of, c.Text)
}

// InstanceLines describes what happened to a function's instances: how many, why they were started, what they
// used.
func InstanceLines(f measure.FunctionFigures) (out []string) {
	peak := fmt.Sprintf("peak %d", f.Instances.Peak)
	if f.Instances.Peak == 0 && f.Instances.Started > 0 {
		peak = "none became ready"
	}
	text := fmt.Sprintf("%s started, %s, %s", count(f.Instances.Started, "instance", "instances"), peak,
		count(f.Attempts, "attempt", "attempts"))
	for _, x := range []struct {
		n    int
		what string
	}{{f.Instances.FailedStarts, "failed start/failed starts"}, {f.Timeouts, "timeout/timeouts"},
		{f.Crashes, "crash/crashes"}, {f.OutOfMemory, "out of memory/out of memory"}} {
		if one, many, _ := strings.Cut(x.what, "/"); x.n > 0 {
			text += ", " + count(x.n, one, many)
		}
	}
	out = append(out, text)
	if statuses := StatusText(f.Statuses); statuses != "" {
		out = append(out, "statuses "+statuses)
	}
	if why := mostFirst(f.Starts); why != "" {
		out = append(out, "started: "+why)
	}
	r := &f.Resources
	var parts []string
	if r.PeakMiB != nil {
		parts = append(parts, fmt.Sprintf("memory peak %.0f MiB, median %.0f", *r.PeakMiB, *r.TypicalMiB))
		if r.MemoryMiB != nil {
			parts[0] += fmt.Sprintf(", of %.0f", *r.MemoryMiB)
		}
	} else if r.MemoryMiB != nil {
		parts = append(parts, fmt.Sprintf("memory of %.0f MiB", *r.MemoryMiB))
	}
	if r.CPU != nil || r.CPUSeconds > 0 {
		cpu := fmt.Sprintf("%.2f s of processor time", r.CPUSeconds)
		if r.CPU != nil {
			cpu += fmt.Sprintf(", at most %.3g of a processor each", *r.CPU)
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
		parts = append(parts, fmt.Sprintf("%s GiB·s of memory held", figure.Millis(r.Held)))
	}
	if r.SizeMiB != nil {
		parts = append(parts, fmt.Sprintf("%s MiB on disk", figure.Millis(r.SizeMiB)))
	}
	if c := f.Cost; c != nil {
		text := "cost " + CostText(c, c.Total)
		if c.PerMillion != nil {
			text += ", " + CostText(c, *c.PerMillion) + " for a million invocations"
		}
		if !c.MemoryKnown {
			text += ", excluding unknown memory"
		}
		parts = append(parts, text)
	}
	if len(parts) > 0 {
		out = append(out, strings.Join(parts, "; "))
	}
	return out
}

// CostText writes an amount with its currency.
func CostText(c *measure.Cost, v float64) string {
	return strings.TrimSpace(figure.Small(v) + " " + c.Currency)
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

// InHandler is the phase in which a handler's loader reports the time in the user's code; all other phases of
// a function's own are those of its Server-Timing headers.
const InHandler = "handler"

// OwnWords describes who reported a phase of a function's own.
func OwnWords(name string) string {
	if name == InHandler {
		return "in the handler itself"
	}
	return "by its own Server-Timing"
}

// ofIts returns words about a function as they stand in its own row.
func ofIts(words string) string { return strings.ReplaceAll(words, "the function's", "its") }
