package export

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/stats"
)

// Source is a run with what is needed to export it.
type Source struct {
	Run   *record.Run
	Page  *report.Page
	Began time.Time
	Lines []record.Line             // of its log
	Blob  func(number int32) []byte // bytes that the run kept, by their number; nil where it did not
}

// csvColumns are the columns of the invocations as CSV; times are in milliseconds
// since the run began, "" where there is none.
var csvColumns = []string{"invocation", "function", "instance", "slot", "source", "route", "payload_set", "payload",
	"event", "events", "attempt", "class", "status", "result", "outcome",
	"due_ms", "assigned_ms", "sent_ms", "first_byte_ms", "done_ms", "service_ms", "wait_ms", "latency_ms", "unexpected",
	"late", "driver_gap_ms"}

// CSV writes every invocation as a row (RFC 4180), in the order of their ends. Of a
// batch, the event is the first of it.
func CSV(to io.Writer, s *Source) error {
	r := s.Run
	first := map[uint64]*record.Attempt{}
	failed := map[uint64]engine.Result{} // in which way, of invocations of which an attempt failed
	for i := range r.Attempts {
		a := &r.Attempts[i]
		if a.Invocation > 0 && first[a.Invocation] == nil {
			first[a.Invocation] = a
		}
		if a.Invocation > 0 && a.Result != engine.OK && failed[a.Invocation] == engine.OK {
			failed[a.Invocation] = a.Result
		}
	}
	type key struct {
		event int64
		wire  int32
	}
	ends := map[key]*record.Delivery{}
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		ends[key{d.Event, d.Wire}] = d
	}
	w := csv.NewWriter(to)
	w.UseCRLF = true
	if err := w.Write(csvColumns); err != nil {
		return err
	}
	at := func(t int64) string {
		if t == 0 {
			return ""
		}
		return millis(time.Duration(t))
	}
	for i := range r.Invocations {
		v := &r.Invocations[i]
		row := []string{fmt.Sprint(v.ID), r.Functions[v.Function].Name, number(r, v.Instance), fmt.Sprint(v.Slot),
			r.Sources[v.Source].Name, routeOf(r, v),
			"", "", "", fmt.Sprint(v.Batch), "", v.Class.String(), "", v.Result.String(), "",
			"", at(int64(v.Assigned)), at(int64(v.Sent)), at(int64(v.Received)), at(int64(v.Done)), "", "", "",
			fmt.Sprint(v.Unexpected), fmt.Sprint(v.Late), ""}
		if why := failed[v.ID]; v.Result == engine.OK && why != engine.OK {
			row[13] = why.String()
		}
		if gap := r.Stood(v.Assigned, v.Done); gap > 0 {
			row[25] = millis(gap)
		}
		if v.Status > 0 {
			row[12] = fmt.Sprint(v.Status)
		}
		if v.Sent > 0 {
			row[20] = millis(v.Done.Sub(v.Sent))
		}
		if a := first[v.ID]; a != nil && int(a.Event) < len(r.Arrivals) {
			of := &r.Arrivals[a.Event]
			p := &r.Payloads[of.Payload]
			row[6], row[7], row[8], row[10], row[15] = p.Set, fmt.Sprint(p.N), p.Label, fmt.Sprint(a.N),
				millis(time.Duration(of.Due))
			if v.Sent > 0 {
				row[21] = millis(v.Sent.Sub(of.Due))
			}
			if d := ends[key{a.Event, a.Wire}]; d != nil && d.Invocation == v.ID {
				row[14], row[22] = d.Outcome.String(), millis(v.Done.Sub(of.Due))
			}
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// millis writes a duration in milliseconds, to the nanosecond.
func millis(d time.Duration) string {
	return strconv.FormatFloat(figure.Milliseconds(d), 'f', -1, 64)
}

func number(r *record.Run, instance int32) string {
	if int(instance) < len(r.Instances) {
		return fmt.Sprint(r.Instances[instance].Number)
	}
	return ""
}

func routeOf(r *record.Run, v *record.Invocation) string {
	if routes := r.Sources[v.Source].Routes; v.Wire >= 0 && int(v.Wire) < len(routes) {
		return routes[v.Wire]
	}
	return ""
}

// hdrDigits is to how many significant digits the histograms are kept.
const hdrDigits = 3

// HDR writes the latencies as a log of HdrHistograms, in microseconds: one for each
// function and class, named by its tag.
func HDR(to io.Writer, s *Source) error {
	w := hdrhistogram.NewHistogramLogWriter(to)
	for _, err := range []error{w.OutputLogFormatVersion(),
		w.OutputComment("[latency from due to done, in microseconds]"), w.OutputStartTime(s.Began.UnixMilli()),
		w.OutputLegend()} {
		if err != nil {
			return err
		}
	}
	populations := measure.Collect(s.Run)
	for fn := range populations {
		of := &populations[fn]
		for _, x := range []struct {
			class string
			of    *stats.Population
		}{{"cold", &of.Latency[engine.Cold]}, {"first", &of.Latency[engine.First]}, {"warm", &of.Latency[engine.Warm]},
			{"retried", &of.Retried}} {
			if x.of.N() == 0 {
				continue
			}
			h := hdrhistogram.New(1, int64(time.Hour/time.Microsecond), hdrDigits)
			for _, d := range x.of.InOrder() {
				// it is within
				_ = h.RecordValue(min(max(int64(d/time.Microsecond), 1), int64(time.Hour/time.Microsecond)))
			}
			h.SetTag(s.Run.Functions[fn].Name + "." + x.class)
			h.SetStartTimeMs(s.Began.UnixMilli())
			h.SetEndTimeMs(s.Began.Add(time.Duration(s.Run.Length)).UnixMilli())
			if err := w.OutputIntervalHistogram(h); err != nil {
				return err
			}
		}
	}
	return nil
}

// OpenMetrics writes the main figures as OpenMetrics text.
func OpenMetrics(to io.Writer, s *Source) error {
	m := s.Page.Summary
	var families []*dto.MetricFamily
	add := func(name, help, unit string, kind dto.MetricType, metrics []*dto.Metric) {
		if len(metrics) == 0 {
			return
		}
		f := &dto.MetricFamily{Name: &name, Help: &help, Type: &kind, Metric: metrics}
		if unit != "" {
			f.Unit = &unit
		}
		families = append(families, f)
	}
	labels := func(pairs ...string) (out []*dto.LabelPair) {
		for i := 0; i < len(pairs); i += 2 {
			out = append(out, &dto.LabelPair{Name: &pairs[i], Value: &pairs[i+1]})
		}
		return out
	}
	gauge := func(v float64, pairs ...string) *dto.Metric {
		return &dto.Metric{Label: labels(pairs...), Gauge: &dto.Gauge{Value: &v}}
	}
	var latency, service, outcomes, started, peak, verdicts []*dto.Metric
	quantiles := func(f measure.Figures, pairs ...string) *dto.Metric {
		n, sum := uint64(f.N), 0.0
		if f.Mean != nil {
			sum = *f.Mean / 1000 * float64(f.N)
		}
		x := &dto.Summary{SampleCount: &n, SampleSum: &sum}
		for _, q := range []struct {
			at float64
			v  *float64
		}{{0.5, f.P50}, {0.95, f.P95}, {0.99, f.P99}, {1, f.Max}} {
			if q.v != nil {
				seconds := *q.v / 1000
				x.Quantile = append(x.Quantile, &dto.Quantile{Quantile: &q.at, Value: &seconds})
			}
		}
		return &dto.Metric{Label: labels(pairs...), Summary: x}
	}
	for _, name := range s.Page.Functions {
		f := m.Functions[name]
		for _, c := range classes {
			if x := *f.Latency.Of(c); x.N > 0 {
				latency = append(latency, quantiles(x, "function", name, "class", c.String()))
			}
			if x := *f.Service.Of(c); x.N > 0 {
				service = append(service, quantiles(x, "function", name, "class", c.String()))
			}
		}
		if x := f.Latency.Retried; x.N > 0 {
			latency = append(latency, quantiles(x, "function", name, "class", "retried"))
		}
		if f.Start.N > 0 {
			started = append(started, quantiles(f.Start, "function", name))
		}
		if f.Resources.PeakMiB != nil {
			peak = append(peak, gauge(*f.Resources.PeakMiB*(1<<20), "function", name))
		}
	}
	for _, name := range s.Page.Sources {
		c := m.Sources[name]
		for o := range engine.Outcomes {
			outcomes = append(outcomes, gauge(float64(*c.Of(o)), "source", name, "outcome",
				strings.ReplaceAll(o.String(), "-", "_")))
		}
	}
	for _, v := range m.Budgets {
		held := 0.0
		if v.Held {
			held = 1
		}
		verdicts = append(verdicts, gauge(held, "budget", v.Text, "state", report.BudgetState(&v)))
	}
	add("nightdrill_run_seconds", "Duration of the run.", "seconds", dto.MetricType_GAUGE,
		[]*dto.Metric{gauge(m.Seconds, "project", m.Project, "drill", m.Drill, "run", m.Run)})
	add("nightdrill_latency_seconds", "From the first due to the last done of a delivery.", "seconds",
		dto.MetricType_SUMMARY, latency)
	add("nightdrill_service_seconds", "From sent to done of an attempt.", "seconds", dto.MetricType_SUMMARY, service)
	add("nightdrill_start_seconds", "From spawned to ready of an instance.", "seconds", dto.MetricType_SUMMARY, started)
	add("nightdrill_deliveries", "Deliveries by outcome.", "", dto.MetricType_GAUGE, outcomes)
	add("nightdrill_peak_memory_bytes", "Peak memory of one instance.", "bytes", dto.MetricType_GAUGE, peak)
	add("nightdrill_budget_held", "Whether a budget was met.", "", dto.MetricType_GAUGE, verdicts)
	for _, f := range families {
		if _, err := expfmt.MetricFamilyToOpenMetrics(to, f); err != nil {
			return err
		}
	}
	_, err := expfmt.FinalizeOpenMetrics(to)
	return err
}

// JUnit writes the budgets as a suite of test cases.
func JUnit(to io.Writer, s *Source) error {
	type failure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
	}
	type testcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Failure *failure `xml:"failure,omitempty"`
		Skipped *failure `xml:"skipped,omitempty"`
		Out     string   `xml:"system-out,omitempty"`
	}
	type suite struct {
		XMLName  xml.Name   `xml:"testsuite"`
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Skipped  int        `xml:"skipped,attr"`
		Errors   int        `xml:"errors,attr"`
		Time     string     `xml:"time,attr"`
		Stamp    string     `xml:"timestamp,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	m := s.Page.Summary
	x := suite{Name: m.Project + " " + m.Drill + " " + m.Run, Tests: len(m.Budgets),
		Time: strconv.FormatFloat(m.Seconds, 'f', 3, 64), Stamp: s.Began.UTC().Format("2006-01-02T15:04:05")}
	for _, v := range m.Budgets {
		c := testcase{Name: v.Text, Class: m.Project + "." + m.Drill, Out: report.BudgetSays(&v)}
		switch {
		case v.Few:
			x.Skipped++
			c.Skipped = &failure{report.BudgetSays(&v), "too few samples"}
		case !v.Held:
			x.Failures++
			c.Failure = &failure{report.BudgetSays(&v), "missed"}
		}
		x.Cases = append(x.Cases, c)
	}
	if _, err := io.WriteString(to, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(to)
	e.Indent("", "  ")
	if err := e.Encode(x); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}

// payloadOf returns a payload as the run kept it; nil where it did not.
func (s *Source) payloadOf(n int32, http bool) *payload.Payload {
	text := s.Blob(s.Run.Payloads[n].Blob)
	if text == nil {
		return nil
	}
	p, err := payload.ParseText(text, http)
	if err != nil {
		return nil
	}
	return &p
}

// replyOf returns a kept reply; nil where there is none.
func (s *Source) replyOf(v *record.Invocation) *payload.Reply {
	if v.Status == 0 {
		return nil
	}
	r := &payload.Reply{Status: int(v.Status)}
	text := s.Blob(v.Reply)
	_, rest, _ := bytes.Cut(text, []byte("\n"))
	head, body, _ := bytes.Cut(rest, []byte("\n\n"))
	if bytes.HasPrefix(rest, []byte("\n")) { // no headers
		head, body = nil, rest[1:]
	}
	for line := range bytes.Lines(head) {
		if name, value, ok := strings.Cut(strings.TrimRight(string(line), "\n"), ": "); ok {
			r.Header = append(r.Header, event.Field{Name: name, Value: value})
		}
	}
	r.Body = body
	return r
}

// Kept selects the events an export takes.
type Kept func(*record.Delivery) bool

// Lost takes the events that failed or became dead letters.
func Lost(d *record.Delivery) bool {
	return d.Outcome == engine.Failed || d.Outcome == engine.DeadLettered || d.Outcome == engine.Expired
}

// HAR writes requests to HTTP sources with their replies as a HAR 1.2 archive, in the
// order of their ends. takes selects by what happened to them; nil takes all. It returns
// how many entries there are.
func HAR(to io.Writer, s *Source, takes Kept) (entries int, err error) {
	r := s.Run
	byID := map[uint64]*record.Invocation{}
	for i := range r.Invocations {
		byID[r.Invocations[i].ID] = &r.Invocations[i]
	}
	b := []byte(payload.HARBegin)
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if r.Sources[d.Source].Kind != "http" || takes != nil && !takes(d) || int(d.Event) >= len(r.Arrivals) {
			continue
		}
		a := &r.Arrivals[d.Event]
		p := s.payloadOf(a.Payload, true)
		if p == nil || p.Request == nil {
			continue
		}
		p.Time = s.Began.Add(time.Duration(a.Due))
		comment := "outcome " + d.Outcome.String()
		var wait, receive time.Duration
		if v := byID[d.Invocation]; v != nil {
			p.Reply = s.replyOf(v)
			comment += ", " + v.Class.String()
			if v.Received > 0 {
				wait, receive = v.Received.Sub(a.Due), v.Done.Sub(v.Received)
			} else {
				wait = v.Done.Sub(a.Due)
			}
		}
		if entries > 0 {
			b = append(b, ",\n"...)
		}
		b = p.AppendHAR(b, "http://127.0.0.1", wait, receive, comment)
		if entries++; len(b) > 1<<20 {
			if _, err := to.Write(b); err != nil {
				return entries, err
			}
			b = b[:0]
		}
	}
	_, err = to.Write(append(b, payload.HAREnd...))
	return entries, err
}

// Events writes the events of sources other than HTTP as CloudEvents, a line of JSON
// each, in the order and with the times of their dues. It returns how many there are.
func Events(to io.Writer, s *Source, takes Kept) (n int, err error) {
	r := s.Run
	wanted := make([]bool, len(r.Arrivals))
	for i := range r.Deliveries {
		if d := &r.Deliveries[i]; int(d.Event) < len(wanted) {
			wanted[d.Event] = wanted[d.Event] || takes == nil || takes(d)
		}
	}
	order := make([]int, 0, len(r.Arrivals))
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; (takes == nil || wanted[i]) && (a.Offered() || takes != nil) &&
			a.Origin != engine.FromFault && r.Sources[a.Source].Kind != "http" {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return int(min(max(r.Arrivals[a].Due-r.Arrivals[b].Due, -1),
			1))
	})
	var b []byte
	for _, i := range order {
		a := &r.Arrivals[i]
		p := s.payloadOf(a.Payload, false)
		if p == nil || p.Event == nil {
			continue
		}
		e := *p.Event
		e.Time = s.Began.Add(time.Duration(a.Due)).UTC()
		if a.Round > 0 { // as it was sent: a set that repeats gives new ids
			e.ID = fmt.Sprintf("%s~%d", e.ID, a.Round+1)
		}
		b = append(e.AppendJSON(b), '\n')
		if n++; len(b) > 1<<20 {
			if _, err := to.Write(b); err != nil {
				return n, err
			}
			b = b[:0]
		}
	}
	_, err = to.Write(b)
	return n, err
}
