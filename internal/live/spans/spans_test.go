package spans

import (
	"bytes"
	"compress/gzip"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

func text(key, value string) *common.KeyValue {
	return &common.KeyValue{Key: key, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: value}}}
}

// request returns a request of n spans, in protobuf.
func request(n int, attributes ...*common.KeyValue) []byte {
	id, _ := hex.DecodeString("00000000000000010000000000000002")
	var all []*trace.Span
	for i := range n {
		all = append(all, &trace.Span{TraceId: id, SpanId: []byte{0, 0, 0, 0, 0, 0, 1, byte(i)}, ParentSpanId: id[:8],
			Name: fmt.Sprint("span ", i), Kind: trace.Span_SPAN_KIND_CLIENT, StartTimeUnixNano: 5, EndTimeUnixNano: 9,
			Attributes: attributes, Status: &trace.Status{Code: trace.Status_STATUS_CODE_ERROR}})
	}
	b, _ := proto.Marshal(&trace.TracesData{ResourceSpans: []*trace.ResourceSpans{{
		Resource:   &resource.Resource{Attributes: []*common.KeyValue{text("service.instance.id", "plan-1")}},
		ScopeSpans: []*trace.ScopeSpans{{Spans: all}}}}})
	return b
}

const inJSON = `{"resourceSpans": [{"resource": {"attributes": [{"key": "service.instance.id", "value": {"stringValue":
 "plan-1"}}]}, "scopeSpans": [{"spans": [{"traceId": "00000000000000010000000000000002", "spanId": "0000000000000100",
 "parentSpanId": "0000000000000001", "name": "span 0", "kind": 3, "startTimeUnixNano": "5", "endTimeUnixNano": "9",
 "status": {"code": 2}, "new in a later version": 1}]}]}]}`

// The same span comes out of protobuf and of JSON, compressed or not; what is no such request is refused, and so is
// what is too large.
func TestReceived(t *testing.T) {
	var got []Span
	refused := 0
	r, err := Open("", nil, func(all []Span) { got = append(got, all...) }, func() { refused++ })
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	post := func(path, kind, coding string, body []byte) int {
		q, _ := http.NewRequest(http.MethodPost, r.URL()+path, bytes.NewReader(body))
		q.Header.Set("Content-Type", kind)
		q.Header.Set("Content-Encoding", coding)
		reply, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		defer reply.Body.Close()
		_, _ = io.Copy(io.Discard, reply.Body)
		return reply.StatusCode
	}
	zip := func(b []byte) []byte {
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		_, _ = z.Write(b)
		_ = z.Close()
		return out.Bytes()
	}
	want := Span{Trace: [2]uint64{1, 2}, ID: 256, Parent: 1, Name: "span 0", Kind: 3, Failed: true,
		Begin: time.Unix(0, 5), End: time.Unix(0, 9), Instance: "plan-1"}
	for _, c := range []struct {
		kind, coding string
		body         []byte
	}{{"application/x-protobuf", "", request(1)}, {"application/x-protobuf", "gzip", zip(request(1))},
		{"application/json; charset=utf-8", "", []byte(inJSON)}, {"application/json", "gzip", zip([]byte(inJSON))}} {
		got = nil
		if status := post("/v1/traces", c.kind, c.coding, c.body); status != 200 || len(got) != 1 ||
			fmt.Sprint(got[0]) != fmt.Sprint(want) {
			t.Errorf("%s %s: status %d, got %v, want %v", c.kind, c.coding, status, got, want)
		}
	}
	got, refused = nil, 0
	for _, c := range []struct {
		path, kind, coding string
		body               []byte
		want               int
	}{{"/v1/traces", "application/x-protobuf", "", []byte("no"), 400},
		{"/v1/traces", "application/json", "", []byte("{"), 400},
		{"/v1/traces", "application/json", "gzip", []byte("no"), 400},
		{"/v1/traces", "application/json", "br", nil, 415}, {"/v1/traces", "text/plain", "", nil, 415},
		{"/v1/traces", "application/x-protobuf", "", make([]byte, largest+1), 413},
		{"/v1/traces", "application/json", "gzip", zip(make([]byte, largestUnzip+1)), 413},
		{"/v2", "application/json", "", nil, 404}, {"/v1/metrics", "application/json", "", []byte("{}"), 200}} {
		if status := post(c.path, c.kind, c.coding, c.body); status != c.want {
			t.Errorf("%s %s %s: status %d, want %d", c.path, c.kind, c.coding, status, c.want)
		}
	}
	if len(got) > 0 || refused != 7 {
		t.Errorf("%d spans, %d refused", len(got), refused)
	}
}

// Secrets and what is long are left out of attributes.
func TestHarmless(t *testing.T) {
	for _, c := range []struct{ key, value, want string }{
		{"url.full", "https://ada:pw@x.example/a?token=s3cret&b=1", "https://x.example/a?token=••••••&b=1"},
		{"http.request.header.authorization", "Bearer s3cret", "••••••"},
		{"db.query.text", `SELECT * FROM f WHERE who = 'Ada''s' AND n = 4`, "SELECT * FROM f WHERE who = '?' AND n " +
			"= 4"},
		{"db.statement", "ALTER USER x PASSWORD 'pw'", "ALTER USER x PASSWORD ••••••"},
		{"note", "plain", "plain"}} {
		if got := Harmless(c.key, c.value); got != c.want {
			t.Errorf("%s: got %q, want %q", c.key, got, c.want)
		}
	}
	if got := Harmless("x", strings.Repeat("é", 2000)); len(got) > longest+4 || !strings.HasSuffix(got, "…") {
		t.Errorf("%d bytes are left", len(got))
	}
	var many []*common.KeyValue
	for i := range 100 {
		many = append(many, text(fmt.Sprint("k", i), "v"))
	}
	all, err := Decode(request(1, many...))
	if err != nil || strings.Count(string(all[0].Attributes), `"v"`) != mostAttributes ||
		!json.Valid(all[0].Attributes) {
		t.Errorf("%v: %s", err, all[0].Attributes)
	}
}

// FuzzDecode checks that no request does harm, in either form.
func FuzzDecode(f *testing.F) {
	f.Add(request(2, text("db.statement", "SELECT 'x'")))
	f.Add([]byte(inJSON))
	f.Fuzz(func(_ *testing.T, body []byte) {
		_, _ = Decode(body)
		_, _ = DecodeJSON(body)
	})
}

// BenchmarkBatch measures what a batch of 512 spans takes, which is what exporters send at most by default.
func BenchmarkBatch(b *testing.B) {
	body := request(512, text("url.full", "http://x.example/a?token=s3cret"), text("db.query.text", "SELECT 'x'"))
	for b.Loop() {
		if all, err := Decode(body); err != nil || len(all) != 512 {
			b.Fatal(err)
		}
	}
}
