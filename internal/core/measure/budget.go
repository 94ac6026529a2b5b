package measure

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Budget is a figure with a bound that a run must keep:
//
//	SCOPE [CLASS] [latency|service|wait] PERCENTILE OP DURATION
//	SCOPE start PERCENTILE OP DURATION
//	function NAME start imports|running|waiting|disk|network|sleeping|unseen OP DURATION
//	function NAME start files|lookups OP NUMBER
//	SCOPE memory [PERCENTILE] OP SIZE
//	SCOPE COUNT OP NUMBER, or SHARE%, or RATE/s
//	SCOPE CLASS OP NUMBER, or SHARE%, or RATE/s
//	SCOPE status STATUS OP NUMBER, or SHARE%, or RATE/s
//	SCOPE cost|cost_per_million OP NUMBER
//
// SCOPE is function NAME, source NAME, chain NAME (the source at which it begins)
// or project; CLASS cold, first, warm, retried (latency only) or all, which is what
// holds where none is given; STATUS such as 404 or 4xx; PERCENTILE p50, p99.9, … or
// max; OP one of < <= > >= == !=.
type Budget struct {
	Text   string
	Of     string // function, source, chain or project
	Name   string
	Kind   string // latency, service, wait, start, anatomy, memory, cost or count
	Class  string // "" for all
	Figure string
	Unit   string // of the bound: ms, MiB, %, /s; "" for a number
	Op     string
	Bound  float64
}

// Verdict is a budget and what was measured.
type Verdict struct {
	Text     string   `json:"text"`
	Measured *float64 `json:"measured"` // in Unit; nil where there are too few samples
	Lo       *float64 `json:"measured_lo"`
	Hi       *float64 `json:"measured_hi"`
	Unit     string   `json:"unit"` // ms, MiB, %, /s or times; "" for a number
	Held     bool     `json:"held"`
	Few      bool     `json:"not_enough_samples"` // neither met nor missed
	Needs    int      `json:"needs,omitempty"`    // samples, for the value or its interval
	Why      string   `json:"why,omitempty"`      // why it could not be judged
}

var (
	ops            = []string{"<", "<=", ">", ">=", "==", "!="}
	durationKinds  = []string{"latency", "service", "wait", "start"}
	functionCounts = []string{"attempts", "timeouts", "crashes", "started", "peak", "failed_starts", "out_of_memory"}
	eventCounts    = []string{"arrived", "deliveries", "done", "failed", "dead_lettered", "rejected", "expired",
		"skipped", "unmatched", "abandoned", "unexpected"}
	costs = []string{"cost", "cost_per_million"}
	// of the anatomy of a start, which no drill takes: in milliseconds, and counted
	startTimes  = []string{"imports", "running", "waiting", "disk", "network", "sleeping", "unseen"}
	startCounts = []string{"files", "lookups"}
)

// ParseBudget reads the text of a budget. It does not know which functions and
// sources there are.
func ParseBudget(text string) (Budget, error) {
	b := Budget{Text: text}
	words := strings.Fields(text)
	peek := func() string {
		if len(words) == 0 {
			return ""
		}
		return words[0]
	}
	next := func() (w string) {
		if w = peek(); w != "" {
			words = words[1:]
		}
		return w
	}
	wrong := func(format string, args ...any) (Budget, error) {
		return b, fmt.Errorf("budget %q: %s", text, fmt.Sprintf(format, args...))
	}
	scopes := []string{"function", "source", "project", "chain"}
	if b.Of = next(); !slices.Contains(scopes, b.Of) {
		return wrong("unknown subject %q; expected one of %s", b.Of, strings.Join(scopes, ", "))
	}
	if b.Of != "project" {
		if b.Name = next(); b.Name == "" {
			return wrong("missing name of a %s", b.Of)
		}
	}
	classed := peek() == "all" || slices.Contains(record.ClassNames, peek())
	if classed {
		if b.Class = next(); b.Class == "all" {
			b.Class = ""
		}
	}
	counts := slices.Clone(eventCounts)
	if b.Of == "function" {
		counts = slices.Concat(functionCounts, []string{"deliveries", "done", "failed", "dead_lettered", "rejected",
			"expired", "skipped", "unexpected"})
	}
	w := peek()
	if !classed || !slices.Contains(ops, w) {
		w = next()
	}
	switch {
	case classed && slices.Contains(ops, w) && b.Class != "" && b.Of != "chain":
		b.Kind, b.Figure, b.Class, classed = "count", b.Class, "", false
	case w == "status" && b.Of != "chain":
		status := next()
		if _, ok := record.ParseStatuses(status); !ok {
			return wrong("%q must be a status, such as 404 or 4xx", status)
		}
		b.Kind, b.Figure = "count", "status "+status
	case w == "start" && b.Of == "function" && slices.Contains(slices.Concat(startTimes, startCounts), peek()):
		b.Kind, b.Figure = "anatomy", next()
	case slices.Contains(durationKinds, w), w == "memory":
		b.Kind, b.Figure = w, "max"
		if w != "memory" || !slices.Contains(ops, peek()) {
			b.Figure = next()
		}
	case slices.Contains(costs, w):
		b.Kind, b.Figure = "cost", w
	case slices.Contains(counts, w):
		b.Kind, b.Figure = "count", w
	default:
		b.Kind, b.Figure = "latency", w
	}
	duration := slices.Contains(durationKinds, b.Kind)
	if _, ok := quantile(b.Figure); !ok && (duration || b.Kind == "memory") {
		wanted := slices.Concat([]string{"p50", "p95", "p99", "max"}, durationKinds, []string{"memory", "status"},
			record.ClassNames, costs, counts)
		if b.Of == "chain" {
			wanted = []string{"p50", "p95", "p99", "max"}
		}
		return wrong("%q is not a figure of a %s; expected one of %s", b.Figure, b.Of, strings.Join(wanted, ", "))
	}
	switch {
	case b.Of == "chain" && (b.Kind != "latency" || classed):
		return wrong("a chain has only a latency, and no classes: chain %s p95 < 2s", b.Name)
	case classed && (!duration || b.Kind == "start"):
		return wrong("%s does not differ by cold, first and warm", w)
	case b.Class == "retried" && b.Kind != "latency":
		return wrong("retried deliveries have only a latency")
	case b.Of == "source" && (b.Kind == "memory" || b.Kind == "cost" || b.Kind == "start"):
		return wrong("a source has no %s; functions have", b.Kind)
	}
	if b.Op = next(); !slices.Contains(ops, b.Op) {
		return wrong("%q is not a comparison; expected one of %s", b.Op, strings.Join(ops, ", "))
	}
	bound := next()
	if len(words) > 0 {
		return wrong("unexpected text after %q", bound)
	}
	var err error
	switch {
	case b.Kind == "anatomy" && slices.Contains(startTimes, b.Figure):
		d, e := time.ParseDuration(bound) // 0 needs no unit
		if e != nil {
			return wrong("%q is not a duration, such as 300ms", bound)
		}
		b.Bound, b.Unit = figure.Milliseconds(d), "ms"
		return b, nil
	case duration:
		d, e := time.ParseDuration(bound)
		if e != nil {
			return wrong("%q is not a duration, such as 900ms", bound)
		}
		b.Bound, b.Unit = figure.Milliseconds(d), "ms"
		return b, nil
	case b.Kind == "memory":
		mib, ok := parseMiB(bound)
		if !ok {
			return wrong("%q is not a size, such as 256MiB", bound)
		}
		b.Bound, b.Unit = mib, "MiB"
		return b, nil
	case b.Kind == "count" && strings.HasSuffix(bound, "%"):
		b.Unit = "%"
		if slices.Contains([]string{"arrived", "deliveries", "attempts", "started", "peak"}, b.Figure) {
			return wrong("%s cannot be a share, for the others are shares of it; use a number or a rate, such as 40/s",
				b.Figure)
		}
	case b.Kind == "count" && strings.HasSuffix(bound, "/s"):
		if b.Unit = "/s"; b.Figure == "peak" {
			return wrong("peak is a number at one moment, not a rate")
		}
	}
	b.Bound, err = strconv.ParseFloat(strings.TrimSuffix(bound, b.Unit), 64)
	if err != nil || math.IsNaN(b.Bound) || math.IsInf(b.Bound, 0) {
		return wrong("%q must be a number, a share such as 2%%, or a rate such as 40/s", bound)
	}
	return b, nil
}

// quantile parses p50, p99.9 or max; max is 1.
func quantile(name string) (q float64, ok bool) {
	if name == "max" {
		return 1, true
	}
	digits, is := strings.CutPrefix(name, "p")
	v, err := strconv.ParseFloat(digits, 64)
	return v / 100, is && err == nil && v > 0 && v < 100
}

// mostMemory bounds a budget on memory, in bytes.
const mostMemory = 1 << 50

// parseMiB parses a size with its unit, in MiB.
func parseMiB(text string) (float64, bool) {
	bytes, err := plan.ParseSize(text, mostMemory)
	return float64(bytes) / (1 << 20), err == nil && strings.HasSuffix(strings.ToLower(text), "b")
}

// Holds reports whether a measured value is within the bound.
func (b *Budget) Holds(v float64) bool {
	switch b.Op {
	case "<":
		return v < b.Bound
	case "<=":
		return v <= b.Bound
	case ">":
		return v > b.Bound
	case ">=":
		return v >= b.Bound
	case "==":
		return v == b.Bound
	}
	return v != b.Bound
}

// judge measures a budget of the run. One with too few samples is neither met nor missed.
func judge(r *record.Run, s *Summary, seen *scan, known []Populations, text string) Verdict {
	v := Verdict{Text: text}
	b, err := ParseBudget(text)
	if err != nil {
		v.Why = err.Error()
		return v
	}
	v.Unit = b.Unit
	few := func(needs int, format string, args ...any) Verdict {
		v.Few, v.Needs, v.Why = true, needs, "too few samples: "+fmt.Sprintf(format, args...)
		return v
	}
	if b.Of == "function" {
		f, ok := s.Functions[b.Name]
		if !ok {
			return few(1, "%s is not part of this run", b.Name)
		}
		if asked := f.Attempts + f.Instances.Started; asked == 0 && b.Figure != "attempts" && b.Figure != "started" &&
			b.Figure != "rejected" && b.Figure != "deliveries" {
			return few(1, "%s received no events in this run", b.Name)
		}
	}
	switch b.Kind {
	case "anatomy":
		v.Few, v.Why = true, fmt.Sprintf("no drill looks into starts: nightdrill anatomy %s judges it", b.Name)
		return v
	case "count":
		n, of := countOf(r, s, &b)
		switch b.Unit {
		case "%":
			if of == 0 {
				return few(1, "no events to take a share of")
			}
			n *= 100 / of
		case "/s":
			seconds := seen.active()
			if seconds <= 0 {
				return few(2, "a rate needs events at two moments")
			}
			n /= seconds
		}
		v.Measured = &n
	case "cost":
		if v.Measured = costOf(r, s, &b); v.Measured == nil {
			v.Why = "the project file has no rates under cost:, or nothing was billed"
			return v
		}
	default:
		p, sampling := population(r, seen.at, known, &b)
		q, _ := quantile(b.Figure)
		if q == 1 {
			if p.N() == 0 {
				return few(1, "0, and max needs 1")
			}
			most := figure.Milliseconds(p.Max())
			v.Measured = &most
			break
		}
		got := p.Percentile(q, sampling)
		if !got.OK {
			return few(stats.Need(q), "%d, and %s needs %d", p.N(), b.Figure, stats.Need(q))
		}
		m := figure.Milliseconds(got.Value)
		v.Measured = &m
		if got.Interval {
			lo, hi := figure.Milliseconds(got.Lo), figure.Milliseconds(got.Hi)
			v.Lo, v.Hi = &lo, &hi
		} else {
			v.Needs = got.Needs
		}
	}
	v.Held = b.Holds(*v.Measured)
	return v
}

// active returns the seconds from the first due to the last due or outcome.
func (c *scan) active() float64 {
	if c.outside == 0 || c.ended < 0 {
		return 0
	}
	return max(c.ended, c.last).Sub(c.first).Seconds()
}

// countOf returns a count, and the total of which it is a share.
func countOf(r *record.Run, s *Summary, b *Budget) (n, of float64) {
	if n, of, ok := countInvocations(r, b); ok {
		return n, of
	}
	return countOutcomes(r, s, b)
}

// countOutcomes returns a count of attempts, instances or outcomes, and the total of which it is a share.
func countOutcomes(r *record.Run, s *Summary, b *Budget) (n, of float64) {
	c := s.Events
	switch b.Of {
	case "source":
		c = s.Sources[b.Name]
	case "function":
		f := s.Functions[b.Name]
		if k := slices.Index(functionCounts, b.Figure); k >= 0 {
			return float64([]int{f.Attempts, f.Timeouts, f.Crashes, f.Instances.Started, f.Instances.Peak,
				f.Instances.FailedStarts, f.OutOfMemory}[k]), float64(f.Attempts)
		}
		c = f.Outcomes
	}
	all := []int{c.Arrived, c.Deliveries, c.Done, c.Failed, c.DeadLettered, c.Rejected, c.Expired, c.Skipped,
		c.Unmatched, c.Abandoned, c.Unexpected}
	return float64(all[slices.Index(eventCounts, b.Figure)]), float64(c.Deliveries)
}

// countInvocations counts invocations of a class or a status, of all invocations, or
// deliveries that were retried, of all deliveries; ok is false for other figures.
func countInvocations(r *record.Run, b *Budget) (n, of float64, ok bool) {
	within := func(fn, source int32) bool {
		return (b.Of != "function" || fn >= 0 && r.Functions[fn].Name == b.Name) &&
			(b.Of != "source" || r.Sources[source].Name == b.Name)
	}
	text, byStatus := strings.CutPrefix(b.Figure, "status ")
	wanted, _ := record.ParseStatuses(text)
	switch {
	case b.Figure == "retried":
		for i := range r.Deliveries {
			d := &r.Deliveries[i]
			fn := int32(-1)
			if d.Wire >= 0 {
				fn = int32(r.Sources[d.Source].To[d.Wire])
			}
			if within(fn, d.Source) {
				of++
				if d.Attempts > 1 {
					n++
				}
			}
		}
	case byStatus || slices.Contains(record.ClassNames[:3], b.Figure):
		for i := range r.Invocations {
			v := &r.Invocations[i]
			if !within(v.Function, v.Source) {
				continue
			}
			of++
			if byStatus && wanted.Has(v.Status) || v.Class.String() == b.Figure {
				n++
			}
		}
	default:
		return 0, 0, false
	}
	return n, of, true
}

func costOf(r *record.Run, s *Summary, b *Budget) *float64 {
	total, invocations, known := 0.0, 0, false
	for i := range r.Functions {
		f := s.Functions[r.Functions[i].Name]
		if f.Cost == nil || b.Of == "function" && b.Name != r.Functions[i].Name {
			continue
		}
		known = true
		total += f.Cost.Total
		if f.Cost.PerMillion != nil && *f.Cost.PerMillion > 0 {
			invocations += int(math.Round(f.Cost.Total / *f.Cost.PerMillion * 1e6))
		}
	}
	if b.Figure == "cost_per_million" {
		if invocations == 0 {
			return nil
		}
		total *= 1e6 / float64(invocations)
	}
	if !known {
		return nil
	}
	return &total
}

// population returns the samples that a budget is about, and how they depend on each
// other. Memory is in MiB, written as ms.
func population(r *record.Run, at []int32, known []Populations, b *Budget) (p *stats.Population,
	sampling stats.Sampling) {
	sampling = stats.Serial
	switch {
	case b.Kind == "start":
		sampling = stats.Independent
	case b.Of == "function" && b.Class != "" && b.Class != "retried":
		sampling = samplingOf(r, classOf(b.Class))
	case r.Cold() && b.Of == "function":
		sampling = stats.Single
	}
	if p := knownPopulation(r, known, b); p != nil {
		return p, sampling
	}
	p = &stats.Population{}
	if b.Of == "chain" {
		for i, q := range chainPopulations(r) {
			if r.Sources[i].Name == b.Name {
				return q, sampling
			}
		}
		return p, sampling
	}
	takes := func(fn, source int32, class string) bool {
		return (b.Of != "function" || r.Functions[fn].Name == b.Name) && (b.Of != "source" ||
			r.Sources[source].Name == b.Name) &&
			(b.Class == "" || class == b.Class)
	}
	switch b.Kind {
	case "start", "memory":
		for i := range r.Instances {
			in := &r.Instances[i]
			if in.Function < 0 {
				continue
			}
			f := &r.Functions[in.Function]
			if b.Of == "function" && f.Name != b.Name {
				continue
			}
			if b.Kind == "memory" && in.Peak > 0 {
				p.Add(time.Duration(float64(in.Peak) / (1 << 20) * 1e6))
			} else if b.Kind == "start" && in.Ready > 0 && !f.Attached && !f.OneShot {
				p.Add(in.Ready.Sub(in.Spawned))
			}
		}
		return p, stats.Independent
	case "latency":
		eachLatency(r, at, func(fn int32, d *record.Delivery, inv *record.Invocation, latency time.Duration) {
			class := inv.Class.String()
			if d.Attempts > 1 {
				class = "retried"
			}
			if takes(fn, d.Source, class) {
				add(p, inv, latency)
			}
		})
	default:
		for i := range r.Attempts {
			a := &r.Attempts[i]
			inv := r.Invocation(at, a.Invocation)
			switch {
			case inv == nil || inv.Result == engine.RunEnded || !takes(inv.Function, a.Source, inv.Class.String()):
			case b.Kind == "service":
				add(p, inv, inv.Done.Sub(inv.Began()))
			case a.N == 1 && inv.Sent > 0 && int(a.Event) < len(r.Arrivals):
				add(p, inv, inv.Sent.Sub(r.Arrivals[a.Event].Due))
			}
		}
	}
	return p, sampling
}

// classOf returns the class of a name.
func classOf(name string) engine.Class {
	for c := range engine.Class(3) {
		if c.String() == name {
			return c
		}
	}
	return engine.Warm
}

// knownPopulation returns the samples that a budget is about where they are of one
// function and class, and so were collected already; otherwise nil.
func knownPopulation(r *record.Run, known []Populations, b *Budget) *stats.Population {
	fn := r.Function(b.Name)
	if b.Of != "function" || fn < 0 {
		return nil
	}
	of := map[string]*[3]stats.Population{"latency": &known[fn].Latency, "service": &known[fn].Service,
		"wait": &known[fn].Wait}[b.Kind]
	for c := range engine.Class(3) {
		if of != nil && c.String() == b.Class {
			return &of[c]
		}
	}
	switch {
	case b.Kind == "start":
		return &known[fn].Start
	case b.Kind == "latency" && b.Class == "retried":
		return &known[fn].Retried
	}
	return nil
}
