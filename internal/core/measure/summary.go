package measure

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Format names the form of the summary.
const Format = "nightdrill.summary/1"

// Summary is the figures of a run. Percentiles are nil where there are too few
// samples to carry them.
type Summary struct {
	Format      string                     `json:"format"`
	Project     string                     `json:"project"`
	Drill       string                     `json:"drill"`
	Run         string                     `json:"run"`
	Seed        uint64                     `json:"seed"`
	Seconds     float64                    `json:"seconds"`
	Finished    bool                       `json:"finished"`
	Events      Counts                     `json:"events"`
	Functions   map[string]FunctionFigures `json:"functions"`
	Sources     map[string]Counts          `json:"sources"`
	Upstreams   []record.Upstream          `json:"upstreams,omitempty"` // and how their stand-ins worked
	Routes      []RouteCounts              `json:"routes"`              // of sources with more than one
	Chains      map[string]Chain           `json:"chains"`              // by the source at which they begin
	Faults      map[string]int             `json:"faults"`              // of delivery, by their kinds
	Idempotence *Idempotence               `json:"idempotence,omitempty"`
	Changes     []record.Change            `json:"changes"` // of limits and versions, while it ran
	Ways        []Way                      `json:"ways"`    // to start, beside each other; none where there is only one
	Load        Load                       `json:"load"`
	Driver      DriverFigures              `json:"driver"`
	Budgets     []Verdict                  `json:"budgets"`
	Warnings    []string                   `json:"warnings"`
	Beside      Beside                     `json:"beside"`
	Machine     string                     `json:"machine"`
	Commit      string                     `json:"commit"`
	Branch      string                     `json:"branch"`
}

// Beside holds those of the warnings that spoil figures, by the figures that they spoil: one may
// be with several.
type Beside struct {
	Latency []string `json:"latency,omitempty"`
	Start   []string `json:"start,omitempty"`
	Rates   []string `json:"rates,omitempty"`
	Memory  []string `json:"memory,omitempty"`
}

// All returns the warnings, each once.
func (b *Beside) All() (out []string) {
	for _, w := range slices.Concat(b.Latency, b.Start, b.Rates, b.Memory) {
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}

// Any reports whether a warning is with any of the figures.
func (b *Beside) Any(warning string) bool {
	return slices.Contains(b.Latency, warning) || slices.Contains(b.Start, warning) ||
		slices.Contains(b.Rates, warning) || slices.Contains(b.Memory, warning)
}

// Counts are events that arrived, deliveries, and the outcomes of deliveries.
type Counts struct {
	Arrived      int `json:"arrived"`
	Published    int `json:"published"` // of those, by functions or from outside: they are not of the drill's load
	Deliveries   int `json:"deliveries"`
	Done         int `json:"done"`
	Failed       int `json:"failed"`
	DeadLettered int `json:"dead_lettered"`
	Rejected     int `json:"rejected"`
	Expired      int `json:"expired"`
	Skipped      int `json:"skipped"`
	Unmatched    int `json:"unmatched"`
	Abandoned    int `json:"abandoned"`
	Unexpected   int `json:"unexpected"`
}

// RouteCounts are what happened to the deliveries along one route of a source.
type RouteCounts struct {
	Source   string `json:"source"`
	Route    string `json:"route"`
	Function string `json:"function"`
	Counts
}

// Of returns the count of an outcome.
func (c *Counts) Of(o engine.Outcome) *int {
	return [...]*int{&c.Done, &c.Failed, &c.DeadLettered, &c.Rejected, &c.Expired, &c.Skipped, &c.Unmatched,
		&c.Abandoned}[o]
}

func (c *Counts) add(o engine.Outcome) {
	c.Deliveries++
	*c.Of(o)++
}

// FunctionFigures are the figures of one function.
type FunctionFigures struct {
	Instances InstanceCounts          `json:"instances"`
	Outcomes  Counts                  `json:"outcomes"` // of the deliveries to it
	Attempts  int                     `json:"attempts"`
	Timeouts  int                     `json:"timeouts"`
	Crashes   int                     `json:"crashes"`
	Statuses  map[string]int          `json:"statuses"`
	Routes    map[string]RouteFigures `json:"routes"` // by method and path pattern
	Start     Figures                 `json:"start"`
	Latency   LatencyFigures          `json:"latency"`
	Service   ByClass                 `json:"service"`
	Wait      ByClass                 `json:"wait"`    // sent - due, of first attempts
	Phases    PhaseFigures            `json:"phases"`  // of starts
	WarmUp    WarmUp                  `json:"warm_up"` // service time by the n-th invocation
	// Own is the service time without what passed in calls to upstreams, of the invocations of which all calls are
	// known; nil where there were no calls.
	Own       *ByClass                   `json:"own"`
	Spans     map[string]SpanFigures     `json:"spans"`     // by their names; null where none were asked for
	Upstreams map[string]UpstreamFigures `json:"upstreams"` // calls by the upstreams' names; null without any
	Cost      *Cost                      `json:"cost"`      // nil without rates, or where the memory is not known

	OutOfMemory   int            `json:"out_of_memory"` // instances that the system ended for their use of memory
	Starts        map[string]int `json:"starts"`        // by why
	Rejections    map[string]int `json:"rejections"`    // by why
	Way           string         `json:"way"`           // how its instances come to be
	PrepareMillis *float64       `json:"prepare_ms"`
	// share of its files' pages that left the system's cache before a start; nil where none was dropped
	FilesLeft *float64  `json:"files_left"`
	Resources Resources `json:"resources"`
}

// InstanceCounts are the instances of a function over a run.
type InstanceCounts struct {
	Started      int `json:"started"`
	Peak         int `json:"peak"`
	FailedStarts int `json:"failed_starts"`
}

// LatencyFigures are the latencies of deliveries: by class of those that took one
// attempt, and those that took several.
type LatencyFigures struct {
	ByClass
	Retried Figures `json:"retried"`
}

// N returns the number of deliveries.
func (l *LatencyFigures) N() int { return l.Cold.N + l.First.N + l.Warm.N + l.Retried.N }

// RouteFigures are the figures of one route to a function.
type RouteFigures struct {
	LatencyFigures
	Statuses map[string]int `json:"statuses"`
}

// ByClass holds figures of cold, first and warm apart; they are never averaged together.
type ByClass struct {
	Cold  Figures `json:"cold"`
	First Figures `json:"first"`
	Warm  Figures `json:"warm"`
}

// Of returns the figures of a class.
func (b *ByClass) Of(c engine.Class) *Figures {
	return [...]*Figures{&b.Warm, &b.Cold, &b.First}[c]
}

// Figures are the percentiles of one population, in milliseconds. A percentile is nil
// where there are fewer samples than an independent population needs for it; its
// interval is nil where the samples cannot carry one, and Needs says how many would.
type Figures struct {
	N     int      `json:"n"`
	P50   *float64 `json:"p50_ms"`
	P50Lo *float64 `json:"p50_ms_lo"`
	P50Hi *float64 `json:"p50_ms_hi"`
	P95   *float64 `json:"p95_ms"`
	P95Lo *float64 `json:"p95_ms_lo"`
	P95Hi *float64 `json:"p95_ms_hi"`
	P99   *float64 `json:"p99_ms"`
	P99Lo *float64 `json:"p99_ms_lo"`
	P99Hi *float64 `json:"p99_ms_hi"`
	Max   *float64 `json:"max_ms"`
	Mean  *float64 `json:"mean_ms"`
	// Needs is the number of samples that the interval of p50, p95 and p99 takes, in
	// this order; 0 where the interval is there.
	Needs [3]int `json:"interval_needs"`
}

// DriverFigures say how well the driver kept to the plan.
type DriverFigures struct {
	LagP50     *float64 `json:"lag_p50_ms"`      // arrived - due
	LagP99     *float64 `json:"lag_p99_ms"`      //
	SendLagP99 *float64 `json:"send_lag_p99_ms"` // sent - due, of events that had not to wait
	Busy       *float64 `json:"busy"`            // share of the machine's processors in use
	Stolen     float64  `json:"stolen"`          // share of them that a virtual machine's host gave to others
	EchoBefore Figures  `json:"echo_before"`     // round trip to a built-in echo, before the run
	EchoDuring Figures  `json:"echo_during"`     // and while it went on
	TimerP99   *float64 `json:"timer_p99_ms"`    // how late a timer of the driver's kind rang before the run
}

// figures returns the figures of a population.
func figures(p *stats.Population, sampling stats.Sampling) Figures {
	f := Figures{N: p.N()}
	if f.N == 0 {
		return f
	}
	longest, mean := figure.Milliseconds(p.Max()), 0.0
	for _, d := range p.InOrder() {
		mean += float64(d)
	}
	mean /= float64(f.N) * 1e6
	f.Max, f.Mean = &longest, &mean
	for i, x := range [][3]**float64{{&f.P50, &f.P50Lo, &f.P50Hi}, {&f.P95, &f.P95Lo, &f.P95Hi},
		{&f.P99, &f.P99Lo, &f.P99Hi}} {
		got := p.Percentile([]float64{0.50, 0.95, 0.99}[i], sampling)
		f.Needs[i] = got.Needs
		if got.OK {
			v := figure.Milliseconds(got.Value)
			*x[0] = &v
		}
		if got.Interval {
			lo, hi := figure.Milliseconds(got.Lo), figure.Milliseconds(got.Hi)
			*x[1], *x[2] = &lo, &hi
		}
	}
	return f
}

// samplingOf returns how the samples of a class depend on each other: in a drill of cold
// starts everything is taken one at a time, in every other drill under load.
func samplingOf(r *record.Run, class engine.Class) stats.Sampling {
	switch {
	case !r.Cold():
		return stats.Serial
	case class == engine.Warm:
		return stats.Single
	}
	return stats.Independent
}

// Figure returns a percentile by its name: p50, p95, p99, max.
func (f *Figures) Figure(name string) *float64 {
	switch name {
	case "p50":
		return f.P50
	case "p95":
		return f.P95
	case "p99":
		return f.P99
	case "max":
		return f.Max
	}
	return nil
}

// byClass returns the figures of populations by engine.Class.
func byClass(r *record.Run, of *[3]stats.Population) (b ByClass) {
	for class := range of {
		*b.Of(engine.Class(class)) = figures(&of[class], samplingOf(r, engine.Class(class)))
	}
	return b
}

// latencies holds the latencies of deliveries.
type latencies struct {
	Latency [3]stats.Population // of those that took one attempt, by engine.Class
	Retried stats.Population    // of those that took several
}

// of returns the population that a delivery belongs to.
func (l *latencies) of(d *record.Delivery, v *record.Invocation) *stats.Population {
	if d.Attempts > 1 {
		return &l.Retried
	}
	return &l.Latency[v.Class]
}

func latencyFigures(r *record.Run, l *latencies) LatencyFigures {
	return LatencyFigures{byClass(r, &l.Latency), figures(&l.Retried, stats.Serial)}
}

// Populations are the durations of one function.
type Populations struct {
	Start stats.Population
	latencies
	Service, Wait [3]stats.Population // by engine.Class
	Phases        StartPhases
	Own           [3]stats.Population // by engine.Class; empty without calls to upstreams
	// Named are what else is compared, by their names, in the order in which they were found: calls, spans
	Named []NamedPopulation
}

// NamedPopulation are the durations of something that functions may have any number of.
type NamedPopulation struct {
	Name string
	*stats.Population
}

func (p *Populations) named(name string, of *stats.Population) {
	p.Named = append(p.Named, NamedPopulation{name, of})
}

// byName returns a population by its name; an empty one where there is none.
func (p *Populations) byName(name string) *stats.Population {
	for i := range p.Named {
		if p.Named[i].Name == name {
			return p.Named[i].Population
		}
	}
	return &stats.Population{}
}

// add appends a sample of an invocation, which may carry several.
func add(p *stats.Population, v *record.Invocation, d time.Duration) {
	if v.Batch > 1 {
		p.AddTo(v.ID, d)
	} else {
		p.Add(d)
	}
}

// Collect returns the populations of each function.
func Collect(r *record.Run) []Populations { return collect(r, walk(r)) }

func collect(r *record.Run, seen *scan) []Populations {
	at := seen.at
	out := make([]Populations, len(r.Functions))
	for fn := range out {
		for c, n := range seen.sizes[fn] { // memory is taken once
			out[fn].Latency[c].Grow(n)
			out[fn].Service[c].Grow(n)
			out[fn].Wait[c].Grow(n)
		}
	}
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Ready > 0 && !r.Functions[in.Function].Attached &&
			!r.Functions[in.Function].OneShot {
			out[in.Function].Start.Add(in.Ready.Sub(in.Spawned))
		}
	}
	eachLatency(r, at, func(fn int32, d *record.Delivery, inv *record.Invocation, took time.Duration) {
		add(out[fn].of(d, inv), inv, took)
	})
	seen.atOnce = make([]time.Duration, 0, len(r.Attempts))
	for i := range r.Attempts {
		a := &r.Attempts[i]
		seen.functions[r.Sources[a.Source].To[a.Wire]].Attempts++
		inv := r.Invocation(at, a.Invocation)
		if inv == nil {
			continue
		}
		over := inv.Result != engine.RunEnded
		if over {
			add(&out[inv.Function].Service[inv.Class], inv, inv.Done.Sub(inv.Began()))
		}
		if a.N == 1 && inv.Sent > 0 && int(a.Event) < len(r.Arrivals) {
			arrival := &r.Arrivals[a.Event]
			waited := inv.Sent.Sub(arrival.Due)
			if over {
				add(&out[inv.Function].Wait[inv.Class], inv, waited)
			}
			if arrival.Offered() && inv.Assigned == arrival.Arrived {
				seen.atOnce = append(seen.atOnce, waited)
			}
		}
	}
	startPhases(r, seen, out)
	return out
}

// eachLatency visits the deliveries that were answered, well or badly, or
// timed out, with the time from their first due to their last done.
func eachLatency(r *record.Run, at []int32, visit func(fn int32, d *record.Delivery, inv *record.Invocation,
	latency time.Duration)) {
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if d.Outcome != engine.Done && d.Outcome != engine.Failed && d.Outcome != engine.DeadLettered {
			continue
		}
		if inv := r.Invocation(at, d.Invocation); inv != nil && int(d.Event) < len(r.Arrivals) {
			visit(inv.Function, d, inv, inv.Done.Sub(r.Arrivals[d.Event].Due))
		}
	}
}

func summarize(r *record.Run, seen *scan) (*Summary, []Populations) {
	at := seen.at
	s := &Summary{Format: Format, Project: r.Project, Drill: r.Drill, Run: r.ID, Seed: r.Seed,
		Seconds: r.Length.Seconds(), Finished: r.Finished, Machine: r.Machine, Commit: r.Commit,
		Branch:    r.Branch,
		Functions: map[string]FunctionFigures{}, Sources: map[string]Counts{},
		Chains: map[string]Chain{}, Faults: map[string]int{}, Budgets: []Verdict{}, Warnings: []string{}}
	var populations []Populations
	together(r, func() { populations = collect(r, seen) }, func() { count(r, s, seen) },
		func() { seen.routes = routes(r, seen) }, func() { seen.warm = warmUps(r, seen) },
		func() { driver(r, s) })
	parts := []func(){func() { s.Driver.SendLagP99 = millisAt(seen.atOnce, 0.99) }}
	for fn := range r.Functions {
		p, f := &populations[fn], &seen.functions[fn]
		parts = append(parts, func() { f.Latency = latencyFigures(r, &p.latencies) },
			func() { f.Service = byClass(r, &p.Service) }, func() { f.Wait = byClass(r, &p.Wait) },
			func() { f.Routes = routeFigures(r, fn, seen.routes) })
	}
	together(r, parts...)
	costs := costsOf(r)
	for fn := range r.Functions {
		p, f := &populations[fn], &seen.functions[fn]
		f.Start = figures(&p.Start, stats.Independent)
		for _, x := range seen.routes {
			if x.function == fn && x.whole && (f.Latency.N() > 0 || len(f.Statuses) > 0) {
				f.Routes[x.name] = RouteFigures{f.Latency, f.Statuses}
			}
		}
		f.Phases, f.WarmUp = p.Phases.figures(), seen.warm[fn]
		f.Instances = instances(r, int32(fn))
		instanceFigures(r, int32(fn), f)
		f.Cost = costs[fn]
		f.Outcomes = seen.outcomes[fn]
		s.Functions[r.Functions[fn].Name] = *f
	}
	upstreamFigures(r, at, s, populations)
	spanFigures(r, at, s, populations)
	s.Changes, s.Ways = append([]record.Change{}, r.Changes...), append([]Way{}, ways(r, s)...)
	if seen.replies {
		chains(r, s)
	}
	faults(r, s, seen)
	if r.Idempotence {
		idempotence(r, s, at)
	}
	load(r, s, seen)
	for _, text := range r.Budgets {
		s.Budgets = append(s.Budgets, judge(r, s, seen, populations, text))
	}
	return s, populations
}

// fewInvocations is up to how many the parts of a summary are computed one after the other.
const fewInvocations = 20_000

// together does parts that are independent of each other: at the same time where there is much to do.
func together(r *record.Run, parts ...func()) {
	var wg sync.WaitGroup
	for _, part := range parts[1:] {
		if len(r.Invocations) > fewInvocations {
			wg.Go(part)
		} else {
			part()
		}
	}
	parts[0]()
	wg.Wait()
}

// routeRecord is what is collected of one route to a function.
type routeRecord struct {
	function int
	name     string
	latencies
	statuses map[int32]int // of invocations
	whole    bool          // it is all that the function had; nothing is collected
}

// wiresTo counts the wires to each function.
func wiresTo(r *record.Run) []int {
	out := make([]int, len(r.Functions))
	for i := range r.Sources {
		for _, fn := range r.Sources[i].To {
			out[fn]++
		}
	}
	return out
}

// routes collects what happened to each route to a function. A wire that takes any method
// is as many routes as there were methods; routes of several sources that have one name
// are one.
func routes(r *record.Run, seen *scan) (out []*routeRecord) {
	type named struct {
		fn   int
		name string
	}
	same := map[named]*routeRecord{}
	recordOf := func(fn int, name string) *routeRecord {
		x := same[named{fn, name}]
		if x == nil {
			x = &routeRecord{function: fn, name: name, statuses: map[int32]int{}}
			if !slices.ContainsFunc(out, func(o *routeRecord) bool { return o.function == fn }) {
				for c, n := range seen.sizes[fn] { // often it is the only one
					x.Latency[c].Grow(n)
				}
			}
			same[named{fn, name}] = x
			out = append(out, x)
		}
		return x
	}
	methods := make([]string, len(r.Payloads))
	for i := range r.Payloads {
		methods[i], _, _ = strings.Cut(r.Payloads[i].Label, " ")
	}
	// of each wire with a name: its one record, or one for each method
	type wire struct {
		one  *routeRecord
		path string
		each map[string]*routeRecord
	}
	wires, to := make([][]wire, len(r.Sources)), wiresTo(r)
	any := false
	for i := range r.Sources {
		s := &r.Sources[i]
		wires[i] = make([]wire, len(s.To))
		for w, name := range s.Routes {
			if to[s.To[w]] == 1 && !strings.HasPrefix(name, "any ") {
				out = append(out, &routeRecord{function: s.To[w], name: name, whole: true})
				continue
			}
			any = true
			if path, ok := strings.CutPrefix(name, "any "); ok && s.Kind == "http" {
				wires[i][w] = wire{path: path, each: map[string]*routeRecord{}}
			} else {
				wires[i][w] = wire{one: recordOf(s.To[w], name)}
			}
		}
	}
	if !any {
		return out
	}
	of := func(source, at int32, event int64) *routeRecord {
		if at < 0 || int(at) >= len(wires[source]) {
			return nil
		}
		w := &wires[source][at]
		if w.each == nil {
			return w.one
		}
		method := "any"
		if int(event) < len(r.Arrivals) {
			method = methods[r.Arrivals[event].Payload]
		}
		x := w.each[method]
		if x == nil {
			x = recordOf(r.Sources[source].To[at], method+" "+w.path)
			w.each[method] = x
		}
		return x
	}
	eachLatency(r, seen.at, func(_ int32, d *record.Delivery, inv *record.Invocation, took time.Duration) {
		if x := of(d.Source, d.Wire, d.Event); x != nil {
			add(x.of(d, inv), inv, took)
		}
	})
	last := uint64(0) // attempts of one invocation follow each other
	for i := range r.Attempts {
		a := &r.Attempts[i]
		inv := r.Invocation(seen.at, a.Invocation)
		if inv == nil || inv.Status == 0 || a.Invocation == last {
			continue
		}
		last = a.Invocation
		if x := of(a.Source, a.Wire, a.Event); x != nil {
			x.statuses[inv.Status]++
		}
	}
	return out
}

// routeFigures returns the figures of the routes to a function.
func routeFigures(r *record.Run, fn int, routes []*routeRecord) map[string]RouteFigures {
	out := map[string]RouteFigures{}
	for _, x := range routes {
		if x.function != fn || x.whole {
			continue
		}
		f := RouteFigures{latencyFigures(r, &x.latencies), statusTexts(x.statuses)}
		if f.N() > 0 || len(f.Statuses) > 0 {
			out[x.name] = f
		}
	}
	return out
}

// statusTexts returns counts by status with the statuses as text.
func statusTexts(counts map[int32]int) map[string]int {
	out := map[string]int{}
	for status, n := range counts {
		out[strconv.Itoa(int(status))] = n
	}
	return out
}

// count counts events, outcomes, and why requests were rejected.
func count(r *record.Run, s *Summary, seen *scan) {
	sources := make([]Counts, len(r.Sources))
	routes := make([][]Counts, len(r.Sources))
	for i := range routes {
		if len(r.Sources[i].Routes) > 1 {
			routes[i] = make([]Counts, len(r.Sources[i].Routes))
		}
	}
	ended := make([]bool, len(r.Arrivals))
	seen.outcomes = make([]Counts, len(r.Functions))
	for fn := range r.Functions {
		seen.functions[fn].Rejections = map[string]int{}
	}
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		sources[d.Source].add(d.Outcome)
		if of := routes[d.Source]; d.Wire >= 0 && int(d.Wire) < len(of) {
			of[d.Wire].add(d.Outcome)
		}
		var function *Counts
		if d.Wire >= 0 {
			function = &seen.outcomes[r.Sources[d.Source].To[d.Wire]]
			function.add(d.Outcome)
		}
		seen.ended = max(seen.ended, d.Ended)
		if seen.unexpected {
			if inv := r.Invocation(seen.at, d.Invocation); inv != nil && inv.Unexpected {
				sources[d.Source].Unexpected++
				if function != nil {
					function.Unexpected++
				}
			}
		}
		if int(d.Event) < len(ended) {
			ended[d.Event] = true
		}
		if d.Outcome == engine.Rejected && d.Cause != engine.NoCause && d.Wire >= 0 {
			seen.functions[r.Sources[d.Source].To[d.Wire]].Rejections[d.Cause.String()]++
		}
	}
	// of a run that was cut off, events without any outcome
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		sources[a.Source].Arrived++
		if !ended[i] {
			sources[a.Source].add(engine.Abandoned)
		}
		if a.Origin == engine.FromPublish {
			sources[a.Source].Published++
		}
		if a.Offered() {
			seen.first, seen.last = min(seen.first, a.Due), max(seen.last, a.Due)
			seen.outside++
		}
		seen.replies = seen.replies || a.Origin == engine.FromReply || a.Origin == engine.FromPublish && a.From >= 0
		seen.faults = seen.faults || a.Fault != 0
	}
	s.Routes = []RouteCounts{}
	for i, of := range routes {
		for w, c := range of {
			s.Routes = append(s.Routes, RouteCounts{r.Sources[i].Name, r.Sources[i].Routes[w],
				r.Functions[r.Sources[i].To[w]].Name, c})
		}
	}
	for i, c := range sources {
		s.Sources[r.Sources[i].Name] = c
		s.Events.Arrived += c.Arrived
		s.Events.Published += c.Published
		s.Events.Unexpected += c.Unexpected
		for o := range engine.Outcomes {
			*s.Events.Of(o) += *c.Of(o)
			s.Events.Deliveries += *c.Of(o)
		}
	}
}

// instances counts the starts of a function and the most that ran at once.
func instances(r *record.Run, fn int32) InstanceCounts {
	var c InstanceCounts
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function != fn {
			continue
		}
		c.Started++
		if in.Ready == 0 && in.Stopped > 0 && (in.Reason == engine.Crashed || in.Reason == engine.NeverReady ||
			in.Reason == engine.OutOfMemory) {
			c.FailedStarts++
		}
	}
	n := 0
	for _, x := range comings(r, func(in *record.Instance) bool { return in.Function == fn }) {
		n += x.by
		c.Peak = max(c.Peak, n)
	}
	return c
}

// coming is an instance that became ready, or that stopped.
type coming struct {
	at   clock.Time
	by   int  // 1 or -1
	over bool // it stopped because the run was over
}

// comings returns when those of some instances that ever were ready came and went, in
// the order of time; at one moment, those that go are first.
func comings(r *record.Run, of func(*record.Instance) bool) (out []coming) {
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Ready == 0 || in.Function < 0 || !of(in) {
			continue
		}
		out = append(out, coming{in.Ready, 1, false})
		if in.Stopped > 0 {
			out = append(out, coming{in.Stopped, -1, in.Reason == engine.RunOver})
		}
	}
	slices.SortFunc(out, func(a, b coming) int { return cmp.Or(cmp.Compare(a.at, b.at), a.by-b.by) })
	return out
}
