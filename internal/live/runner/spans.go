package runner

import (
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/spans"
)

const (
	mostSpans     = 50_000 // that a run keeps
	mostOfTrace   = 256    // likewise, of one trace
	mostSpanNames = 1_000
	mostTraced    = 1_000 // events whose spans a follower still takes
	spanPatience  = 300 * time.Millisecond
	// a span may begin so long before its invocation by the wall clock
	clockTolerance = clock.Time(5 * time.Millisecond)
)

// openSpans opens a receiver where any function sends spans. What fails is noted: the functions run without it.
func (d *Runner) openSpans(hosts []string) {
	if !slices.ContainsFunc(d.fns, func(f function) bool { return f.Spans }) {
		return
	}
	host := ""
	if slices.ContainsFunc(d.fns, func(f function) bool { return f.Spans && f.ReachAt != "" }) {
		host = d.bindAt
	}
	r, err := spans.Open(host, hosts, d.takeSpans, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.recorder.missed().Refused++
	})
	if err != nil {
		d.notes = append(d.notes, err.Error())
		return
	}
	d.receiver = r
}

// CloseReceiver ends the receiving of spans, also of a run that never began.
func (d *Runner) CloseReceiver() { d.receiver.Close() }

// takeSpans enters spans that were received.
func (d *Runner) takeSpans(all []spans.Span) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := range all {
		x := &all[i]
		event := int64(x.Trace[1]) - 1
		if x.Trace[0] != d.trace|1 || event < 0 || d.began.IsZero() {
			d.recorder.missed().Unknown++
			continue
		}
		d.recorder.spanned(&record.Span{Event: event, ID: x.ID, Parent: x.Parent, Begin: max(d.at(x.Begin), 0),
			End: max(d.at(x.End), 0), Kind: x.Kind, Failed: x.Failed}, x)
	}
}

// withSpans adds to an environment what has an instrumented function send its spans here (OpenTelemetry Environment
// Variable Specification). What the function's own environment says holds.
func (d *Runner) withSpans(fn *plan.Function, instance string, env []string) []string {
	if d.receiver == nil || !fn.Spans {
		return env
	}
	for _, v := range [][2]string{
		{"OTEL_EXPORTER_OTLP_ENDPOINT", plan.Reach(fn.ReachAt, d.receiver.URL())},
		{"OTEL_EXPORTER_OTLP_PROTOCOL", "http/protobuf"}, {"OTEL_TRACES_EXPORTER", "otlp"},
		{"OTEL_METRICS_EXPORTER", "none"}, {"OTEL_LOGS_EXPORTER", "none"}, {"OTEL_SERVICE_NAME", fn.Name},
		{"OTEL_PROPAGATORS", "tracecontext"}, {"OTEL_TRACES_SAMPLER", "parentbased_always_on"},
		// 0 would send them when the process ends
		{"OTEL_BSP_SCHEDULE_DELAY", "100"}} {
		if _, i := lookUp(env, v[0]); i < 0 {
			env = append(env, v[0]+"="+v[1])
		}
	}
	const attributes = "OTEL_RESOURCE_ATTRIBUTES"
	own := "service.instance.id=" + instance
	if _, i := lookUp(env, attributes); i >= 0 {
		env[i] += "," + own
		return env
	}
	return append(env, attributes+"="+own)
}

// sent is an invocation for which spans may come.
type sent struct {
	invocation uint64
	function   int32
	at         clock.Time
}

// spanBook is what a drill knows of the traces for which spans may come.
type spanBook struct {
	sentFor map[int64][]sent // invocations by the first of their events
	each    map[int64]int    // spans that came, by the same
	names   map[string]int32
	texts   map[string]int32
}

func (b *spanBook) sent(event int64, f *engine.Effect) {
	if b.sentFor == nil {
		b.sentFor, b.each = map[int64][]sent{}, map[int64]int{}
		b.names, b.texts = map[string]int32{}, map[string]int32{}
	}
	b.sentFor[event] = append(b.sentFor[event], sent{f.Invocation, f.Function, f.At})
}

// of returns the invocation that a span is part of: the one that it names as its parent, else the last one that was
// made for the event before the span began.
func of(all []sent, parent uint64, begin clock.Time) *sent {
	found := &all[0]
	for i := range all {
		switch {
		case all[i].invocation == parent:
			return &all[i]
		case all[i].at <= begin+clockTolerance:
			found = &all[i]
		}
	}
	return found
}

// spanned implements recorder. Of a trace that there is no room for, nothing is kept.
func (d *Drill) spanned(s *record.Span, x *spans.Span) {
	b, missed := &d.ledger.traces, &d.rec.SpansMissed
	all := b.sentFor[s.Event]
	n := b.each[s.Event]
	switch {
	case len(all) == 0:
		missed.Unknown++
		return
	case n < 0, n >= mostOfTrace, n == 0 && len(d.rec.Spans)+mostOfTrace > mostSpans:
		missed.Dropped++
		if n == 0 {
			b.each[s.Event] = -1
		}
		return
	}
	b.each[s.Event]++
	v := of(all, s.Parent, s.Begin)
	s.Invocation, s.Function = v.invocation, v.function
	if s.Name = b.names[x.Name]; s.Name == 0 && len(b.names) < mostSpanNames {
		d.rec.SpanNames = append(d.rec.SpanNames, x.Name)
		s.Name = int32(len(d.rec.SpanNames))
		b.names[x.Name] = s.Name
	}
	if text := string(x.Attributes); text != "" {
		if s.Attributes = b.texts[text]; s.Attributes == 0 {
			s.Attributes = d.keep(x.Attributes, &d.kept, quota)
			b.texts[text] = s.Attributes
		}
	}
	d.rec.Spans = append(d.rec.Spans, *s)
}

// missed implements recorder.
func (d *Drill) missed() *record.SpansMissed { return &d.rec.SpansMissed }

// Span is a span of an attempt.
type Span struct {
	record.Span
	Name       string
	Attributes string // as JSON; "" for none
}

// expectSpans notes the attempts of an event whose function sends spans; the lock is held.
func (d *Follower) expectSpans(event int64, attempts []*Attempt) {
	if d.traced[event] == nil {
		d.tracedOrder = append(d.tracedOrder, event)
	}
	d.traced[event] = append(d.traced[event], attempts...)
	if len(d.tracedOrder) > mostTraced {
		delete(d.traced, d.tracedOrder[0])
		d.tracedOrder = d.tracedOrder[1:]
	}
}

// spanned implements recorder.
func (d *Follower) spanned(s *record.Span, x *spans.Span) {
	all := d.traced[s.Event]
	if len(all) == 0 {
		d.spansMissed.Unknown++
		return
	}
	var known []sent
	for _, t := range all {
		known = append(known, sent{t.Invocation.ID, t.Function, t.Invocation.Assigned})
	}
	v := of(known, s.Parent, s.Begin)
	s.Invocation, s.Function = v.invocation, v.function
	for _, t := range all {
		if t.Invocation.ID != v.invocation {
			continue
		}
		if len(t.Spans) >= mostOfTrace {
			d.spansMissed.Dropped++
			continue
		}
		t.Spans = append(t.Spans, Span{*s, x.Name, string(x.Attributes)})
	}
}

// missed implements recorder.
func (d *Follower) missed() *record.SpansMissed { return &d.spansMissed }

// SpansMissed returns what was not kept of the spans so far.
func (d *Follower) SpansMissed() record.SpansMissed {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.spansMissed
}
