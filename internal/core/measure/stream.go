package measure

import (
	"slices"
	"strings"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Stream computes the figures of a run that is too long to be kept, in memory that does not grow with it: percentiles
// are of histograms with three digits. Invocations, deliveries and instances are added when they are over.
type Stream struct {
	r         *record.Run // without its records
	functions []streamed
	sources   []Counts
	budgets   []streamedBudget
	first     clock.Time
	ended     clock.Time
}

// streamed is what is known of a function.
type streamed struct {
	outcomes          Counts
	latency, service  [3]histogram
	retried, start    histogram
	attempts, invoked int
	timeouts          int
	started, there    int
	peak              int
	held              float64
	memoryKnown       bool
	costs             *costing
	busy              map[int32]*streamedInstance
}

// streamedInstance is an instance that is there.
type streamedInstance struct {
	inFlight int
	since    clock.Time // it has had any
	busy     time.Duration
	memory   int64
}

// streamedBudget is a budget while it is measured.
type streamedBudget struct {
	Budget
	wrong  string // why it is not judged
	of     histogram
	n, all float64
	// what it is about, looked up once
	function, source int32 // anything for -1
	class            int   // of deliveries: an engine.Class, retried or anyClass
	// counts reports whether it counts an invocation; nil where it counts none
	counts func(*record.Invocation) bool
}

// classes of deliveries beside those of the engine.
const (
	retried  = int(engine.First) + 1
	anyClass = -1
)

// newStreamedBudget returns a budget of a run that is to be measured.
func newStreamedBudget(r *record.Run, text string) streamedBudget {
	b, err := ParseBudget(text)
	x := streamedBudget{Budget: b, function: -1, source: -1, class: anyClass}
	switch {
	case err != nil:
		x.wrong = err.Error()
		return x
	case !b.streams():
		x.wrong = "it is not judged over a long horizon"
		return x
	}
	switch b.Of {
	case "function":
		x.function = int32(r.Function(b.Name))
	case "source":
		x.source = int32(slices.IndexFunc(r.Sources, func(s record.Source) bool { return s.Name == b.Name }))
	}
	if (x.function < 0 && b.Of == "function") || (x.source < 0 && b.Of == "source") {
		x.wrong = b.Name + " is not part of this run"
	}
	switch b.Class {
	case "":
	case "retried":
		x.class = retried
	default:
		x.class = int(classOf(b.Class))
	}
	if status, ok := strings.CutPrefix(b.Figure, "status "); ok {
		wanted, _ := record.ParseStatuses(status) // it was read before
		x.counts = func(v *record.Invocation) bool { return wanted.Has(v.Status) }
	} else if b.Kind == "count" && b.Figure != "retried" && slices.Contains(record.ClassNames, b.Figure) {
		class := classOf(b.Figure)
		x.counts = func(v *record.Invocation) bool { return v.Class == class }
	}
	return x
}

// about reports whether a budget is about a function and a source.
func (b *streamedBudget) about(fn, source int32) bool {
	return (b.function < 0 || b.function == fn) && (b.source < 0 || b.source == source)
}

// histogram is one of durations in microseconds.
type histogram struct {
	h    *hdrhistogram.Histogram
	sum  float64
	most time.Duration
}

func (p *histogram) add(d time.Duration) {
	if p.h == nil {
		p.h = hdrhistogram.New(1, int64(24*time.Hour/time.Microsecond), 3)
	}
	// longer than a day counts as a day
	_ = p.h.RecordValue(min(max(int64(d/time.Microsecond), 1), int64(24*time.Hour/time.Microsecond)))
	p.sum, p.most = p.sum+float64(d), max(p.most, d)
}

func (p *histogram) n() int {
	if p.h == nil {
		return 0
	}
	return int(p.h.TotalCount())
}

// percentile returns a percentile in milliseconds; nil of too few samples.
func (p *histogram) percentile(q float64) *float64 {
	if p.n() < stats.Need(q) {
		return nil
	}
	v := float64(p.h.ValueAtQuantile(100*q)) / 1000
	return &v
}

func (p *histogram) figures() (f Figures) {
	if f.N = p.n(); f.N == 0 {
		return f
	}
	most, mean := float64(p.most)/1e6, p.sum/float64(f.N)/1e6
	f.P50, f.P95, f.P99, f.Max, f.Mean = p.percentile(0.5), p.percentile(0.95), p.percentile(0.99), &most, &mean
	return f
}

// NewStream returns the stream of a run that has its functions, sources, budgets and rates.
func NewStream(r *record.Run) *Stream {
	s := &Stream{r: r, functions: make([]streamed, len(r.Functions)), sources: make([]Counts, len(r.Sources)),
		first: clock.Never}
	for fn := range s.functions {
		f := &s.functions[fn]
		f.memoryKnown, f.busy = true, map[int32]*streamedInstance{}
		if r.Rates != nil && !r.Functions[fn].Attached {
			f.costs = &costing{Cost: Cost{Currency: r.Rates.Currency, MemoryKnown: true}, rates: r.Rates,
				f: &r.Functions[fn]}
		}
	}
	for _, text := range r.Budgets {
		s.budgets = append(s.budgets, newStreamedBudget(r, text))
	}
	return s
}

// streams reports whether a budget can be judged without the records of a run.
func (b *Budget) streams() bool {
	switch {
	case b.Of == "chain", b.Kind == "anatomy", b.Kind == "memory":
		return false
	}
	return b.Kind != "count" || !slices.Contains([]string{"crashes", "failed_starts", "out_of_memory", "unexpected",
		"abandoned"}, b.Figure)
}

// Streams reports whether all of some budgets can be judged by a [Stream].
func Streams(budgets []string) bool {
	return !slices.ContainsFunc(budgets, func(text string) bool {
		b, err := ParseBudget(text)
		return err != nil || !b.streams()
	})
}

// Arrived adds an event.
func (s *Stream) Arrived(a *record.Arrival) {
	s.sources[a.Source].Arrived++
	s.first, s.ended = min(s.first, a.Due), max(s.ended, a.Due)
}

// Began adds that an invocation began.
func (s *Stream) Began(v *record.Invocation) {
	x := s.functions[v.Function].busy[v.Instance]
	if x == nil {
		x = &streamedInstance{}
		s.functions[v.Function].busy[v.Instance] = x
	}
	if x.inFlight++; x.inFlight == 1 {
		x.since = v.Began()
	}
}

// Invoked adds an invocation that is over.
func (s *Stream) Invoked(v *record.Invocation) {
	f := &s.functions[v.Function]
	f.invoked++
	if v.Result == engine.Timeout {
		f.timeouts++
	}
	if x := f.busy[v.Instance]; x != nil {
		if x.inFlight--; x.inFlight == 0 {
			d := v.Done.Sub(x.since)
			x.busy += d
			if f.costs != nil {
				f.costs.invocations(s.memory(v.Function, x), d)
			}
		}
	}
	for i := range s.budgets {
		b := &s.budgets[i]
		if b.counts == nil || !b.about(v.Function, v.Source) {
			continue
		}
		b.all++
		if b.counts(v) {
			b.n++
		}
	}
}

// memory returns what an instance holds.
func (s *Stream) memory(fn int32, x *streamedInstance) int64 {
	if x.memory > 0 {
		return x.memory
	}
	return s.r.Functions[fn].Memory
}

// Attempted adds an attempt of a delivery whose event was due at a time.
func (s *Stream) Attempted(a *record.Attempt, v *record.Invocation, due clock.Time) {
	f := &s.functions[v.Function]
	f.attempts++
	took, wait := v.Done.Sub(v.Began()), v.Sent.Sub(due)
	f.service[v.Class].add(took)
	for i := range s.budgets {
		switch b := &s.budgets[i]; {
		case b.Kind != "service" && b.Kind != "wait" || !b.about(v.Function, a.Source) ||
			b.class != anyClass && b.class != int(v.Class):
		case b.Kind == "service":
			b.of.add(took)
		case a.N == 1 && v.Sent > 0:
			b.of.add(wait)
		}
	}
}

// Delivered adds a delivery that has its outcome; v is its last invocation, or nil, and due when its event was.
func (s *Stream) Delivered(d *record.Delivery, v *record.Invocation, due clock.Time) {
	s.sources[d.Source].add(d.Outcome)
	s.ended = max(s.ended, d.Ended)
	fn := int32(-1)
	if d.Wire >= 0 {
		fn = int32(s.r.Sources[d.Source].To[d.Wire])
		s.functions[fn].outcomes.add(d.Outcome)
	}
	for i := range s.budgets {
		if b := &s.budgets[i]; b.Kind == "count" && b.Figure == "retried" && b.about(fn, d.Source) {
			b.all++
			if d.Attempts > 1 {
				b.n++
			}
		}
	}
	if v == nil || d.Outcome != engine.Done && d.Outcome != engine.Failed && d.Outcome != engine.DeadLettered {
		return
	}
	took := v.Done.Sub(due)
	f := &s.functions[v.Function]
	class := int(v.Class)
	if d.Attempts > 1 {
		class = retried
		f.retried.add(took)
	} else {
		f.latency[v.Class].add(took)
	}
	for i := range s.budgets {
		if b := &s.budgets[i]; b.Kind == "latency" && b.about(v.Function, d.Source) &&
			(b.class == anyClass || b.class == class) {
			b.of.add(took)
		}
	}
}

// Ready adds that an instance became ready.
func (s *Stream) Ready(in *record.Instance) {
	f := &s.functions[in.Function]
	f.there++
	f.peak = max(f.peak, f.there)
	took := in.Ready.Sub(in.Spawned)
	f.start.add(took)
	for i := range s.budgets {
		if b := &s.budgets[i]; b.Kind == "start" && b.Of != "source" && b.about(in.Function, -1) {
			b.of.add(took)
		}
	}
	x := f.busy[in.ID]
	if x == nil {
		x = &streamedInstance{}
		f.busy[in.ID] = x
	}
	x.memory = s.r.MemoryOf(in)
}

// Gone adds an instance that is gone.
func (s *Stream) Gone(in *record.Instance, at clock.Time) {
	f := &s.functions[in.Function]
	f.started++
	if in.Ready > 0 {
		f.there--
	}
	memory := s.r.MemoryOf(in)
	f.memoryKnown = f.memoryKnown && memory > 0
	f.held += float64(memory) / (1 << 30) * at.Sub(in.Spawned).Seconds()
	x := f.busy[in.ID]
	delete(f.busy, in.ID)
	if f.costs != nil {
		idle := f.costs.instance(in, memory, at)
		if x != nil {
			idle -= x.busy
		}
		f.costs.idle(memory, idle)
	}
}

// Summary returns the figures.
func (s *Stream) Summary() *Summary {
	out := &Summary{Format: Format, Project: s.r.Project, Drill: s.r.Drill, Run: s.r.ID, Seed: s.r.Seed,
		Finished: true, Functions: map[string]FunctionFigures{}, Sources: map[string]Counts{},
		Budgets: []Verdict{}, Warnings: []string{}}
	for fn := range s.functions {
		f, x := &s.functions[fn], FunctionFigures{}
		x.Attempts, x.Timeouts, x.Outcomes = f.attempts, f.timeouts, f.outcomes
		x.Instances = InstanceCounts{Started: f.started, Peak: f.peak}
		x.Start, x.Latency.Retried = f.start.figures(), f.retried.figures()
		for class := range engine.Class(3) {
			*x.Latency.Of(class), *x.Service.Of(class) = f.latency[class].figures(), f.service[class].figures()
		}
		if held := f.held; f.memoryKnown && f.started > 0 && !s.r.Functions[fn].Attached {
			x.Resources.Held = &held
		}
		if f.costs != nil {
			x.Cost = f.costs.total(f.invoked)
		}
		out.Functions[s.r.Functions[fn].Name] = x
	}
	for i, c := range s.sources {
		out.Sources[s.r.Sources[i].Name] = c
		out.Events.Arrived += c.Arrived
		for o := range engine.Outcomes {
			*out.Events.Of(o) += *c.Of(o)
			out.Events.Deliveries += *c.Of(o)
		}
	}
	for i := range s.budgets {
		out.Budgets = append(out.Budgets, s.judge(out, &s.budgets[i]))
	}
	return out
}

// judge returns what a budget comes to.
func (s *Stream) judge(out *Summary, b *streamedBudget) Verdict {
	v := Verdict{Text: b.Text, Unit: b.Unit}
	switch {
	case b.wrong != "":
		v.Few, v.Why = true, b.wrong
		return v
	case b.Kind == "cost":
		v.Measured = costOf(s.r, out, &b.Budget)
	case b.Kind == "count":
		n, of := b.n, b.all
		if b.counts == nil && b.Figure != "retried" {
			n, of = countOutcomes(s.r, out, &b.Budget)
		}
		switch seconds := s.ended.Sub(min(s.first, s.ended)).Seconds(); {
		case b.Unit == "%" && of > 0:
			n *= 100 / of
		case b.Unit == "/s" && seconds > 0:
			n /= seconds
		case b.Unit == "%" || b.Unit == "/s":
			v.Few, v.Why = true, "too few samples: no events to take a share of"
			return v
		}
		v.Measured = &n
	default:
		q, _ := quantile(b.Figure)
		if q == 1 {
			v.Measured = b.of.figures().Max
		} else {
			v.Measured, v.Needs = b.of.percentile(q), stats.Need(q)
		}
	}
	if v.Measured == nil {
		v.Few, v.Why = true, "too few samples"
		return v
	}
	v.Held = b.Holds(*v.Measured)
	return v
}
