// Package spans receives the spans that functions send (OpenTelemetry's OTLP over HTTP 1.x, as protobuf or JSON). What
// a span is part of is decided by who opened the receiver.
package spans

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"mime"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/live/hosts"
)

// Bounds of what is taken.
const (
	largest        = 4 << 20  // bytes of a request
	largestUnzip   = 16 << 20 // and of what is compressed in it
	mostAttributes = 32       // of a span
	longest        = 1 << 10  // bytes of a value
)

// Span is a span that was received.
type Span struct {
	Trace      [2]uint64 // the two halves of its trace's ID
	ID, Parent uint64
	Name       string
	Kind       uint8
	Failed     bool
	Begin, End time.Time
	Instance   string // service.instance.id of its resource; "" for none
	Attributes []byte // as a JSON object, without secrets; nil for none
}

// Receiver is an open receiver.
type Receiver struct {
	Address string // host and port
	server  *http.Server
	take    func([]Span)
	refused func()
	hosts   []string
}

// Open listens at a free port of a host, 127.0.0.1 for "". take is called with the spans of each request, and refused
// with each that cannot be read; both are called by several goroutines.
func Open(host string, allowed []string, take func([]Span), refused func()) (*Receiver, error) {
	if host == "" {
		host = "127.0.0.1"
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	if err != nil {
		return nil, fmt.Errorf("spans cannot be received: %w", err)
	}
	r := &Receiver{Address: l.Addr().String(), take: take, refused: refused, hosts: allowed}
	r.server = &http.Server{Handler: http.HandlerFunc(r.serve), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: log.New(io.Discard, "", 0)}
	go func() { _ = r.server.Serve(l) }() // it ends with Close
	return r, nil
}

// URL returns the base address of the receiver; "" of none.
func (r *Receiver) URL() string {
	if r == nil {
		return ""
	}
	return "http://" + r.Address
}

// Close ends the receiver. It may be called on nil.
func (r *Receiver) Close() {
	if r != nil {
		_ = r.server.Close()
	}
}

func (r *Receiver) serve(w http.ResponseWriter, q *http.Request) {
	hosts.EndAfter(w, q)
	if why := hosts.Check(q, r.hosts); why != "" {
		http.Error(w, "Night Drill: "+why, http.StatusMisdirectedRequest)
		return
	}
	base, _, _ := mime.ParseMediaType(q.Header.Get("Content-Type"))
	switch {
	case q.URL.Path == "/v1/metrics" || q.URL.Path == "/v1/logs":
		// they are not kept; an exporter that cannot be told so need not try again
	case q.URL.Path != "/v1/traces":
		http.Error(w, "Night Drill: spans are taken at /v1/traces", http.StatusNotFound)
		return
	case q.Method != http.MethodPost:
		w.Header().Set("Allow", "POST")
		http.Error(w, "Night Drill: spans are sent with POST", http.StatusMethodNotAllowed)
		return
	default:
		all, status, err := read(w, q, base)
		if err != nil {
			r.refused()
			http.Error(w, "Night Drill: "+err.Error(), status)
			return
		}
		r.take(all)
	}
	// an empty response message: all was taken (OTLP 1.x, § Full success)
	if base == "application/json" {
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, "{}")
		return
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
}

// read returns the spans of a request, or why it is refused, with the status for it.
func read(w http.ResponseWriter, q *http.Request, base string) ([]Span, int, error) {
	var from io.Reader = http.MaxBytesReader(w, q.Body, largest)
	switch coding := q.Header.Get("Content-Encoding"); coding {
	case "", "identity":
	case "gzip":
		z, err := gzip.NewReader(from)
		if err != nil {
			return nil, http.StatusBadRequest, fmt.Errorf("the request is not compressed with gzip: %w", err)
		}
		from = z
	default:
		return nil, http.StatusUnsupportedMediaType, fmt.Errorf("the coding %q is not read; use gzip or none", coding)
	}
	body, err := io.ReadAll(io.LimitReader(from, largestUnzip+1))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large) || len(body) > largestUnzip:
		return nil, http.StatusRequestEntityTooLarge, fmt.Errorf("the request is larger than %d MiB, or %d unpacked",
			largest>>20, largestUnzip>>20)
	case err != nil:
		return nil, http.StatusBadRequest, fmt.Errorf("the request cannot be read: %w", err)
	}
	switch base {
	case "application/x-protobuf", "application/protobuf":
		all, err := Decode(body)
		return all, http.StatusBadRequest, err
	case "application/json":
		all, err := DecodeJSON(body)
		return all, http.StatusBadRequest, err
	}
	return nil, http.StatusUnsupportedMediaType, fmt.Errorf("the content type %q is not read; use "+
		"application/x-protobuf or application/json", base)
}

// Decode reads an ExportTraceServiceRequest, or TracesData, which is the same on the wire.
func Decode(body []byte) ([]Span, error) {
	var d trace.TracesData
	if err := proto.Unmarshal(body, &d); err != nil {
		return nil, errors.New("not an export request of OTLP in protobuf")
	}
	return spansOf(&d), nil
}

// DecodeJSON reads one in JSON, where IDs are hexadecimal (OTLP 1.x, § JSON Protobuf Encoding).
func DecodeJSON(body []byte) ([]Span, error) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, errors.New("not valid JSON")
	}
	plain, err := json.Marshal(withBytes(v))
	if err != nil {
		return nil, err
	}
	var data trace.TracesData
	if err := (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(plain, &data); err != nil {
		return nil, errors.New("not an export request of OTLP in JSON")
	}
	return spansOf(&data), nil
}

// withBytes returns a JSON value with the IDs of spans in base64, as protobuf's own JSON has them.
func withBytes(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			text, isText := x.(string)
			switch name {
			case "traceId", "spanId", "parentSpanId", "trace_id", "span_id", "parent_span_id":
				if b, err := hex.DecodeString(text); isText && err == nil {
					v[name] = base64.StdEncoding.EncodeToString(b)
				}
			default:
				v[name] = withBytes(x)
			}
		}
	case []any:
		for i := range v {
			v[i] = withBytes(v[i])
		}
	}
	return v
}

func spansOf(d *trace.TracesData) (out []Span) {
	w := writer{map[[2]string]string{}}
	for _, r := range d.GetResourceSpans() {
		instance := ""
		for _, a := range r.GetResource().GetAttributes() {
			if a.GetKey() == "service.instance.id" {
				instance = a.GetValue().GetStringValue()
			}
		}
		for _, scope := range r.GetScopeSpans() {
			for _, s := range scope.GetSpans() {
				if len(s.GetTraceId()) != 16 || len(s.GetSpanId()) != 8 {
					continue // invalid (trace/v1)
				}
				x := Span{Name: payload.Short(s.GetName(), 200), Kind: uint8(s.GetKind()), Instance: instance,
					Failed: s.GetStatus().GetCode() == trace.Status_STATUS_CODE_ERROR,
					Begin:  at(s.GetStartTimeUnixNano()), End: at(s.GetEndTimeUnixNano())}
				x.Trace = [2]uint64{binary.BigEndian.Uint64(s.GetTraceId()),
					binary.BigEndian.Uint64(s.GetTraceId()[8:])}
				x.ID = binary.BigEndian.Uint64(s.GetSpanId())
				if p := s.GetParentSpanId(); len(p) == 8 {
					x.Parent = binary.BigEndian.Uint64(p)
				}
				if x.End.Before(x.Begin) {
					x.End = x.Begin
				}
				x.Attributes = w.attributes(s.GetAttributes())
				out = append(out, x)
			}
		}
	}
	return out
}

func at(nanos uint64) time.Time { return time.Unix(0, int64(min(nanos, 1<<63-1))) }

// writer writes attributes. Spans of one batch repeat most of their values, which are looked through once each.
type writer struct{ known map[[2]string]string }

// attributes returns attributes as a JSON object, without secrets; nil where there are none.
func (w *writer) attributes(all []*common.KeyValue) []byte {
	if len(all) == 0 {
		return nil
	}
	out := make([]byte, 0, 64*min(len(all), mostAttributes))
	for i, a := range all {
		if out = append(out, ','); i == mostAttributes {
			out = append(out, fmt.Sprintf(`"…":"%d more"`, len(all)-i)...)
			break
		}
		out = append(event.AppendString(out, payload.Short(a.GetKey(), 200)), ':')
		out = w.value(out, a.GetKey(), a.GetValue())
	}
	out[0] = '{'
	return append(out, '}')
}

// harmless appends what [Harmless] leaves of a value, as JSON.
func (w *writer) harmless(to []byte, key, value string) []byte {
	out, known := w.known[[2]string{key, value}]
	if !known {
		out = string(event.AppendString(nil, Harmless(key, value)))
		w.known[[2]string{key, value}] = out
	}
	return append(to, out...)
}

func (w *writer) value(to []byte, key string, v *common.AnyValue) []byte {
	switch x := v.GetValue().(type) {
	case *common.AnyValue_StringValue:
		return w.harmless(to, key, x.StringValue)
	case *common.AnyValue_BoolValue:
		return strconv.AppendBool(to, x.BoolValue)
	case *common.AnyValue_IntValue:
		return strconv.AppendInt(to, x.IntValue, 10)
	case *common.AnyValue_DoubleValue:
		return event.AppendString(to, strconv.FormatFloat(x.DoubleValue, 'g', -1, 64))
	case *common.AnyValue_ArrayValue:
		var all []string
		for _, e := range x.ArrayValue.GetValues() {
			all = append(all, strings.Trim(string(w.value(nil, key, e)), `"`))
		}
		return w.harmless(to, key, strings.Join(all, ", "))
	}
	return append(to, "null"...)
}
