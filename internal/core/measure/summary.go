package measure

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
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
	Chains      map[string]Chain           `json:"chains"` // by the source at which they begin
	Faults      map[string]int             `json:"faults"` // of delivery, by their kinds
	Idempotence *Idempotence               `json:"idempotence,omitempty"`
	Changes     []Change                   `json:"changes"` // of limits and versions, while it ran
	Ways        []Way                      `json:"ways"`    // to start, beside each other; none where there is only one
	Driver      DriverFigures              `json:"driver"`
	Budgets     []Verdict                  `json:"budgets"`
	Warnings    []string                   `json:"warnings"`
}

// Counts are events that arrived, deliveries, and the outcomes of deliveries.
type Counts struct {
	Arrived      int `json:"arrived"`
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

// Of gives the count of an outcome.
func (c *Counts) Of(o engine.Outcome) *int {
	return [...]*int{&c.Done, &c.Failed, &c.DeadLettered, &c.Rejected, &c.Expired, &c.Skipped, &c.Unmatched, &c.Abandoned}[o]
}

func (c *Counts) add(o engine.Outcome) {
	c.Deliveries++
	*c.Of(o)++
}

// FunctionFigures are the figures of one function.
type FunctionFigures struct {
	Instances InstanceCounts     `json:"instances"`
	Attempts  int                `json:"attempts"`
	Timeouts  int                `json:"timeouts"`
	Crashes   int                `json:"crashes"`
	Statuses  map[string]int     `json:"statuses"`
	Routes    map[string]ByClass `json:"routes"`
	Start     Figures            `json:"start"`
	Latency   ByClass            `json:"latency"`
	Service   ByClass            `json:"service"`

	OutOfMemory   int            `json:"out_of_memory"` // instances that the system ended for their use of memory
	Starts        map[string]int `json:"starts"`        // by why
	Rejections    map[string]int `json:"rejections"`    // by why
	Way           string         `json:"way"`           // how its instances come to be
	PrepareMillis *float64       `json:"prepare_ms"`
	FilesLeft     *float64       `json:"files_left"` // share of its files' pages that left the system's cache before a start; nil where none was dropped
	Resources     Resources      `json:"resources"`
}

// InstanceCounts are the instances of a function over a run.
type InstanceCounts struct {
	Started      int `json:"started"`
	Peak         int `json:"peak"`
	FailedStarts int `json:"failed_starts"`
}

// ByClass holds figures of cold, first and warm apart; they are never averaged together.
type ByClass struct {
	Cold  Figures `json:"cold"`
	First Figures `json:"first"`
	Warm  Figures `json:"warm"`
}

// Of gives the figures of a class.
func (b *ByClass) Of(c engine.Class) *Figures {
	return [...]*Figures{&b.Warm, &b.Cold, &b.First}[c]
}

// Figures are the percentiles of one population, in milliseconds.
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
}

// DriverFigures say how well the driver kept to the plan.
type DriverFigures struct {
	LagP50     *float64 `json:"lag_p50_ms"`      // arrived - due
	LagP99     *float64 `json:"lag_p99_ms"`      //
	SendLagP99 *float64 `json:"send_lag_p99_ms"` // sent - due, of events that had not to wait
	Busy       *float64 `json:"busy"`            // share of the machine's processors in use
}

// Millis gives a duration in milliseconds, to the nanosecond.
func Millis(d time.Duration) float64 { return float64(d) / 1e6 }

func figures(p *Population, percentile func(*Population, float64) Percentile) Figures {
	f := Figures{N: p.N()}
	if f.N == 0 {
		return f
	}
	longest := Millis(p.Max())
	f.Max = &longest
	for _, x := range []struct {
		q         float64
		v, lo, hi **float64
	}{{0.50, &f.P50, &f.P50Lo, &f.P50Hi}, {0.95, &f.P95, &f.P95Lo, &f.P95Hi}, {0.99, &f.P99, &f.P99Lo, &f.P99Hi}} {
		if got := percentile(p, x.q); got.OK {
			v, lo, hi := Millis(got.Value), Millis(got.Lo), Millis(got.Hi)
			*x.v, *x.lo, *x.hi = &v, &lo, &hi
		}
	}
	return f
}

// Figure gives a percentile by its name: p50, p95, p99, max.
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

type classes [3]Population // by engine.Class

func (c *classes) figures() ByClass {
	var b ByClass
	for class := range c {
		*b.Of(engine.Class(class)) = figures(&c[class], (*Population).Dependent)
	}
	return b
}

// Populations are the durations of one function, for drawings.
type Populations struct {
	Start            Population
	Latency, Service [3]Population // by engine.Class
}

// Collect gives the populations of each function.
func (r *Run) Collect() []Populations {
	out := make([]Populations, len(r.Functions))
	at := r.index()
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Ready > 0 && !r.Functions[in.Function].Attached && !r.Functions[in.Function].OneShot {
			out[in.Function].Start.Add(in.Ready.Sub(in.Spawned))
		}
	}
	r.eachLatency(at, func(fn int32, _ *Delivery, inv *Invocation, d time.Duration) {
		out[fn].Latency[inv.Class].Add(d)
	})
	for i := range r.Attempts {
		if inv := r.invocation(at, r.Attempts[i].Invocation); inv != nil && inv.Result != engine.RunEnded {
			out[inv.Function].Service[inv.Class].Add(inv.Done.Sub(inv.began()))
		}
	}
	return out
}

// began is when the invocation was sent, or handed over when it never was.
func (v *Invocation) began() clock.Time {
	if v.Sent > 0 {
		return v.Sent
	}
	return v.Assigned
}

func (r *Run) invocation(at []int32, id uint64) *Invocation {
	if id == 0 || id >= uint64(len(at)) || at[id] < 0 {
		return nil
	}
	return &r.Invocations[at[id]]
}

// eachLatency visits the deliveries that were answered, well or badly, or
// timed out, with the time from their first due to their last done.
func (r *Run) eachLatency(at []int32, visit func(fn int32, d *Delivery, inv *Invocation, latency time.Duration)) {
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if d.Outcome != engine.Done && d.Outcome != engine.Failed && d.Outcome != engine.DeadLettered {
			continue
		}
		if inv := r.invocation(at, d.Invocation); inv != nil && int(d.Event) < len(r.Arrivals) {
			visit(inv.Function, d, inv, inv.Done.Sub(r.Arrivals[d.Event].Due))
		}
	}
}

// Summarize gives the summary of a run.
func (r *Run) Summarize() *Summary { return r.summarize(r.Collect()) }

func (r *Run) summarize(populations []Populations) *Summary {
	s := &Summary{Format: Format, Project: r.Project, Drill: r.Drill, Run: r.ID, Seed: r.Seed,
		Seconds: r.Length.Seconds(), Finished: r.Finished,
		Functions: map[string]FunctionFigures{}, Sources: map[string]Counts{},
		Chains: map[string]Chain{}, Faults: map[string]int{}, Budgets: []Verdict{}, Warnings: []string{}}
	at := r.index()
	r.count(s, at)
	routes := map[[2]int32]*classes{}
	r.eachLatency(at, func(_ int32, d *Delivery, inv *Invocation, latency time.Duration) {
		if d.Wire < 0 || len(r.Sources[d.Source].Routes) == 0 {
			return
		}
		k := [2]int32{d.Source, d.Wire}
		if routes[k] == nil {
			routes[k] = &classes{}
		}
		routes[k][inv.Class].Add(latency)
	})
	for fn := range r.Functions {
		p := &populations[fn]
		f := FunctionFigures{Statuses: map[string]int{}, Routes: map[string]ByClass{},
			Start:   figures(&p.Start, (*Population).Independent),
			Latency: (*classes)(&p.Latency).figures(), Service: (*classes)(&p.Service).figures()}
		f.Instances = r.instances(int32(fn))
		r.instanceFigures(int32(fn), &f)
		for k, c := range routes {
			if r.Sources[k[0]].To[k[1]] == fn {
				f.Routes[r.Sources[k[0]].Routes[k[1]]] = c.figures()
			}
		}
		s.Functions[r.Functions[fn].Name] = f
	}
	for i := range r.Invocations {
		inv := &r.Invocations[i]
		name := r.Functions[inv.Function].Name
		f := s.Functions[name]
		if inv.Status > 0 {
			f.Statuses[strconv.Itoa(int(inv.Status))]++
		}
		if inv.Result == engine.Timeout {
			f.Timeouts++
		}
		s.Functions[name] = f
	}
	for i := range r.Attempts {
		name := r.Functions[r.Sources[r.Attempts[i].Source].To[r.Attempts[i].Wire]].Name
		f := s.Functions[name]
		f.Attempts++
		s.Functions[name] = f
	}
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Reason == engine.Crashed && in.Ready > 0 && in.Stopped > 0 {
			name := r.Functions[in.Function].Name
			f := s.Functions[name]
			f.Crashes++
			s.Functions[name] = f
		}
	}
	r.rejections(s)
	s.Changes, s.Ways = append([]Change{}, r.Changes...), append([]Way{}, r.ways(s)...)
	r.chains(s)
	r.faults(s)
	if r.Idempotence {
		r.idempotence(s, at)
	}
	r.driver(s, at)
	r.warn(s)
	for _, text := range r.Budgets {
		s.Budgets = append(s.Budgets, s.judge(text))
	}
	return s
}

func (r *Run) count(s *Summary, at []int32) {
	sources := make([]Counts, len(r.Sources))
	ended := make([]bool, len(r.Arrivals))
	for i := range r.Arrivals {
		sources[r.Arrivals[i].Source].Arrived++
	}
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		sources[d.Source].add(d.Outcome)
		if inv := r.invocation(at, d.Invocation); inv != nil && inv.Unexpected {
			sources[d.Source].Unexpected++
		}
		if int(d.Event) < len(ended) {
			ended[d.Event] = true
		}
	}
	// of a run that was cut off, events without any outcome
	for i := range r.Arrivals {
		if !ended[i] {
			sources[r.Arrivals[i].Source].add(engine.Abandoned)
		}
	}
	for i, c := range sources {
		s.Sources[r.Sources[i].Name] = c
		s.Events.Arrived += c.Arrived
		s.Events.Unexpected += c.Unexpected
		for o := range engine.Outcomes {
			*s.Events.Of(o) += *c.Of(o)
			s.Events.Deliveries += *c.Of(o)
		}
	}
}

// instances counts the starts of a function and the most that ran at once.
func (r *Run) instances(fn int32) InstanceCounts {
	var c InstanceCounts
	type change struct {
		at clock.Time
		by int
	}
	var changes []change
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function != fn {
			continue
		}
		c.Started++
		if in.Ready == 0 && in.Stopped > 0 && (in.Reason == engine.Crashed || in.Reason == engine.NeverReady || in.Reason == engine.OutOfMemory) {
			c.FailedStarts++
		}
		if in.Ready > 0 {
			changes = append(changes, change{in.Ready, 1})
			if in.Stopped > 0 {
				changes = append(changes, change{in.Stopped, -1})
			}
		}
	}
	slices.SortFunc(changes, func(a, b change) int {
		if a.at != b.at {
			return int(min(max(a.at-b.at, -1), 1))
		}
		return a.by - b.by
	})
	n := 0
	for _, x := range changes {
		n += x.by
		c.Peak = max(c.Peak, n)
	}
	return c
}

func (r *Run) driver(s *Summary, at []int32) {
	var lag, send Population
	for i := range r.Arrivals {
		if r.Arrivals[i].From < 0 {
			lag.Add(r.Arrivals[i].Arrived.Sub(r.Arrivals[i].Due))
		}
	}
	for i := range r.Attempts {
		a := &r.Attempts[i]
		inv := r.invocation(at, a.Invocation)
		if a.N == 1 && inv != nil && inv.Sent > 0 && int(a.Event) < len(r.Arrivals) && r.Arrivals[a.Event].From < 0 && inv.Assigned == r.Arrivals[a.Event].Arrived {
			send.Add(inv.Sent.Sub(r.Arrivals[a.Event].Due))
		}
	}
	l, w := figures(&lag, (*Population).Dependent), figures(&send, (*Population).Dependent)
	s.Driver = DriverFigures{LagP50: l.P50, LagP99: l.P99, SendLagP99: w.P99}
	if !math.IsNaN(r.Busy) {
		busy := math.Round(r.Busy*1000) / 1000
		s.Driver.Busy = &busy
	}
}

// Bounds beyond which the driver's own part in the figures is worth a word.
const (
	lateDriver = 2.0  // ms
	busyShare  = 0.85 // of the processors
)

func (r *Run) warn(s *Summary) {
	say := func(format string, args ...any) { s.Warnings = append(s.Warnings, fmt.Sprintf(format, args...)) }
	if !r.Finished {
		say("the run did not come to its end; the figures cover what was measured until then")
	}
	if l := s.Driver.LagP99; l != nil && *l > lateDriver {
		say("events were taken up to %.1f ms late (p99); latencies count that delay. Close other programs, or lower the rate", *l)
	}
	if b := s.Driver.Busy; b != nil && *b > busyShare {
		say("the machine's processors were %.0f %% busy; functions and driver waited for each other, so times are longer than on a calmer machine", *b*100)
	}
	for i := range r.Sources {
		if r.Sources[i].Closed && s.Sources[r.Sources[i].Name].Arrived > 0 {
			say("source %s was fed by callers who wait for their answers (closed loop): a slow answer also delays what comes next", r.Sources[i].Name)
		}
	}
	for i := range r.Functions {
		if f := &r.Functions[i]; strings.HasPrefix(f.Enforced, "not enforced") {
			say("what an instance of %s may use is %s", f.Name, f.Enforced)
		}
	}
	for i := range r.Functions {
		if f := &r.Functions[i]; f.Attached {
			say("%s was started by somebody else: its starts are not measured, and none of its answers counts as cold.", f.Name)
		}
	}
	s.Warnings = append(s.Warnings, r.Notes...)
}
