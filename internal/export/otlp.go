package export

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

// The JSON of OTLP (trace/v1, JSON Protobuf Encoding), as far as it is written.
type (
	otlpData struct {
		ResourceSpans []otlpResource `json:"resourceSpans"`
	}
	otlpResource struct {
		Resource struct {
			Attributes []otlpAttribute `json:"attributes"`
		} `json:"resource"`
		ScopeSpans []otlpScope `json:"scopeSpans"`
	}
	otlpScope struct {
		Scope struct {
			Name string `json:"name"`
		} `json:"scope"`
		Spans []otlpSpan `json:"spans"`
	}
	otlpSpan struct {
		TraceID    string          `json:"traceId"`
		SpanID     string          `json:"spanId"`
		Parent     string          `json:"parentSpanId,omitempty"`
		Name       string          `json:"name"`
		Kind       int             `json:"kind"`
		Start      string          `json:"startTimeUnixNano"`
		End        string          `json:"endTimeUnixNano"`
		Attributes []otlpAttribute `json:"attributes,omitempty"`
		Status     *otlpStatus     `json:"status,omitempty"`
	}
	otlpStatus struct {
		Code    int    `json:"code"`
		Message string `json:"message,omitempty"`
	}
	otlpAttribute struct {
		Key   string         `json:"key"`
		Value map[string]any `json:"value"`
	}
)

func attribute(key string, value any) otlpAttribute {
	switch v := value.(type) {
	case int:
		return otlpAttribute{key, map[string]any{"intValue": strconv.Itoa(v)}}
	case bool:
		return otlpAttribute{key, map[string]any{"boolValue": v}}
	}
	return otlpAttribute{key, map[string]any{"stringValue": fmt.Sprint(value)}}
}

// Kinds and statuses of spans (trace/v1).
const (
	internalKind = 1
	serverKind   = 2
	clientKind   = 3
	errorStatus  = 2
)

// IDs of the spans that are of the run's own have these bits; invocations have their own IDs.
const (
	eventSpan = uint64(1) << 63
	callSpan  = uint64(1) << 62
)

// otlp collects the spans of a run by what they are of.
type otlp struct {
	s     *Source
	trace uint64
	of    map[string]int // places of the resources
	data  otlpData
}

func (o *otlp) at(t clock.Time) string {
	return strconv.FormatInt(o.s.Began.Add(time.Duration(t)).UnixNano(), 10)
}

// add adds a span of an event's trace to a resource.
func (o *otlp) add(service, instance string, event int64, id, parent uint64, s otlpSpan) {
	place, known := o.of[service+"\x00"+instance]
	if !known {
		place = len(o.data.ResourceSpans)
		o.of[service+"\x00"+instance] = place
		r := otlpResource{ScopeSpans: []otlpScope{{}}}
		r.Resource.Attributes = append(r.Resource.Attributes, attribute("service.name", service))
		if instance != "" {
			r.Resource.Attributes = append(r.Resource.Attributes, attribute("service.instance.id", instance))
		}
		r.ScopeSpans[0].Scope.Name = "nightdrill"
		o.data.ResourceSpans = append(o.data.ResourceSpans, r)
	}
	s.TraceID, s.SpanID = fmt.Sprintf("%016x%016x", o.trace, uint64(event)+1), fmt.Sprintf("%016x", id)
	if parent != 0 {
		s.Parent = fmt.Sprintf("%016x", parent)
	}
	to := &o.data.ResourceSpans[place].ScopeSpans[0].Spans
	*to = append(*to, s)
}

// tracesOf returns a whole run as traces, one for each event: from due to its outcome, its invocations, the calls to
// upstreams during them, and the spans that functions sent.
func tracesOf(s *Source) *otlpData {
	r := s.Run
	o := &otlp{s: s, trace: record.TraceOf(r.Seed, r.ID) | 1, of: map[string]int{}}
	o.data.ResourceSpans = []otlpResource{}
	first := map[uint64]int64{} // the first event of each invocation, whose trace it is in
	for i := range r.Attempts {
		a := &r.Attempts[i]
		if _, known := first[a.Invocation]; a.Invocation > 0 && !known {
			first[a.Invocation] = a.Event
		}
	}
	ended := map[int64]bool{}
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if int(d.Event) >= len(r.Arrivals) || ended[d.Event] {
			continue
		}
		ended[d.Event] = true
		a := &r.Arrivals[d.Event]
		x := otlpSpan{Name: r.Sources[d.Source].Name, Kind: internalKind, Start: o.at(a.Due), End: o.at(max(d.Ended,
			a.Due)),
			Attributes: []otlpAttribute{attribute("nightdrill.outcome", d.Outcome), attribute("nightdrill.attempts",
				int(d.Attempts))}}
		if d.Outcome != engine.Done && d.Outcome != engine.Skipped {
			x.Status = &otlpStatus{errorStatus, d.Outcome.String()}
		}
		o.add("night drill", "", d.Event, eventSpan|uint64(d.Event), 0, x)
	}
	at := r.Index()
	for i := range r.Invocations {
		v := &r.Invocations[i]
		event, known := first[v.ID]
		if !known {
			continue
		}
		x := otlpSpan{Name: r.Functions[v.Function].Name, Kind: serverKind, Start: o.at(v.Began()), End: o.at(v.Done),
			Attributes: []otlpAttribute{attribute("nightdrill.class", v.Class), attribute("nightdrill.batch",
				int(v.Batch)),
				attribute("http.response.status_code", int(v.Status))}}
		if v.Result != engine.OK || v.Status >= record.LeastFailed {
			x.Status = &otlpStatus{errorStatus, v.Result.String()}
		}
		o.add(r.Functions[v.Function].Name, o.instance(v.Function, v.Instance), event, v.ID, eventSpan|uint64(event), x)
	}
	for i := range r.Calls {
		c := &r.Calls[i]
		event, known := first[c.Invocation]
		if !known {
			continue // of a start, or of one among several
		}
		x := otlpSpan{Name: r.Upstreams[c.Upstream].Name, Kind: clientKind, Start: o.at(c.Began), End: o.at(c.Done),
			Attributes: []otlpAttribute{attribute("nightdrill.request", r.CallLabel(c)), attribute("nightdrill.reply",
				c.Way), attribute("http.response.status_code", int(c.Status))}}
		if c.Bad() {
			x.Status = &otlpStatus{errorStatus, c.Failed.String()}
		}
		o.add(r.Functions[c.Function].Name, o.instance(c.Function, c.Instance), event, callSpan|uint64(i+1),
			c.Invocation,
			x)
	}
	for i := range r.Spans {
		x := &r.Spans[i]
		instance := ""
		if v := r.Invocation(at, x.Invocation); v != nil {
			instance = o.instance(v.Function, v.Instance)
		}
		out := otlpSpan{Name: r.SpanName(x), Kind: int(x.Kind), Start: o.at(x.Begin), End: o.at(x.End),
			Attributes: attributesOf(s.Blob(x.Attributes))}
		if x.Failed {
			out.Status = &otlpStatus{Code: errorStatus}
		}
		o.add(r.Functions[x.Function].Name, instance, x.Event, x.ID, x.Parent, out)
	}
	return &o.data
}

// instance returns the name of an instance of a function.
func (o *otlp) instance(fn, instance int32) string {
	if instance < 0 || int(instance) >= len(o.s.Run.Instances) {
		return ""
	}
	return fmt.Sprintf("%s-%d", o.s.Run.Functions[fn].Name, o.s.Run.Instances[instance].Number)
}

// attributesOf returns the attributes that a run kept of a span.
func attributesOf(text []byte) (out []otlpAttribute) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var all map[string]any
	if len(text) == 0 || d.Decode(&all) != nil {
		return nil
	}
	for key, v := range all {
		if n, ok := v.(json.Number); ok {
			if whole, err := n.Int64(); err == nil {
				v = int(whole)
			}
		}
		out = append(out, attribute(key, v))
	}
	slices.SortFunc(out, func(a, b otlpAttribute) int { return strings.Compare(a.Key, b.Key) })
	return out
}

// OTLP writes a whole run as traces, in the JSON of OTLP.
func OTLP(to io.Writer, s *Source) error { return json.NewEncoder(to).Encode(tracesOf(s)) }

// mostAtOnce is how many spans are sent in one request.
const mostAtOnce = 2_000

// SendOTLP sends a whole run to a collector (OTLP over HTTP, in JSON), and returns how many spans it took. Where the
// URL has no path, it is /v1/traces.
func SendOTLP(ctx context.Context, to string, s *Source) (sent int, err error) {
	u, err := url.Parse(to)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return 0, fmt.Errorf("%q is not the URL of a collector, such as http://127.0.0.1:4318", to)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	ctx, enough := context.WithTimeout(ctx, 2*time.Minute)
	defer enough()
	for _, r := range tracesOf(s).ResourceSpans {
		for part := range slices.Chunk(r.ScopeSpans[0].Spans, mostAtOnce) {
			one := r
			one.ScopeSpans = []otlpScope{{r.ScopeSpans[0].Scope, part}}
			text, err := json.Marshal(otlpData{[]otlpResource{one}})
			if err != nil {
				return sent, err
			}
			if err := post(ctx, u, text); err != nil {
				return sent, fmt.Errorf("the collector at %s: %w", u.Host, err)
			}
			sent += len(part)
		}
	}
	return sent, nil
}

func post(ctx context.Context, u *url.URL, text []byte) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, u.String(), bytes.NewReader(text))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	reply, err := http.DefaultClient.Do(q)
	if err != nil {
		if x, ok := err.(*url.Error); ok {
			err = x.Err // without the URL, which may have a password
		}
		return err
	}
	defer reply.Body.Close()
	if reply.StatusCode != http.StatusOK {
		said, _ := io.ReadAll(io.LimitReader(reply.Body, 300))
		return fmt.Errorf("status %d %s", reply.StatusCode, strings.TrimSpace(string(said)))
	}
	return nil
}
