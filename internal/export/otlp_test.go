package export

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/spans"
)

// A run as traces is read by an independent decoder: every event, invocation, call and span is there, each in the
// trace of its event and below what it is part of; and a collector gets the same.
func TestARunAsTraces(t *testing.T) {
	s := quay()
	s.Began = time.Unix(1000, 0)
	r := s.Run
	v := &r.Invocations[7]
	r.Upstreams, r.CallLabels = []record.Upstream{{Name: "rates"}}, []string{"GET /rates"}
	r.Calls = []record.Call{{Invocation: v.ID, Began: v.Sent + 1, Done: v.Done - 1, Status: 503, Label: 1},
		{Among: 2, Began: v.Sent, Done: v.Done}}
	r.Blobs, r.SpanNames = append(r.Blobs, []byte(`{"db":"fares","n":4}`)), []string{"SELECT"}
	r.Spans = []record.Span{{Event: int64(v.ID) - 1, Invocation: v.ID, ID: 1<<40 | 99, Parent: v.ID, Begin: v.Sent,
		End:        v.Done,
		Name:       1,
		Kind:       3,
		Attributes: int32(len(r.Blobs))}}
	if s.Blob == nil {
		s.Blob = func(n int32) []byte { return r.Blobs[n-1] }
	}
	var b bytes.Buffer
	if err := OTLP(&b, s); err != nil {
		t.Fatal(err)
	}
	all, err := spans.DecodeJSON(b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	at := map[uint64]*spans.Span{}
	named := map[string]int{}
	for i := range all {
		x := &all[i]
		if at[x.ID] != nil {
			t.Errorf("two spans have the ID %x", x.ID)
		}
		at[x.ID] = x
		named[x.Name]++
		if x.Trace[0] != record.TraceOf(r.Seed, r.ID)|1 {
			t.Fatalf("%s is in trace %x", x.Name, x.Trace)
		}
	}
	if named["rates"] != 1 || named["SELECT"] != 1 || named["quote"]+named["gate"] != len(r.Invocations) {
		t.Errorf("spans by their names: %v, of %d invocations", named, len(r.Invocations))
	}
	for i := range all {
		x := &all[i]
		if parent := at[x.Parent]; x.Parent != 0 && (parent == nil || parent.Trace != x.Trace) {
			t.Errorf("the parent of %s is not in its trace", x.Name)
		}
	}
	own := at[1<<40|99]
	if own == nil || at[own.Parent].Name != "quote" || !own.Begin.Equal(time.Unix(1000, int64(v.Sent))) ||
		string(own.Attributes) != `{"db":"fares","n":4}` {
		t.Errorf("the function's own span: %+v", own)
	}
	if call := at[callSpan|1]; call == nil || !call.Failed || call.Parent != v.ID {
		t.Errorf("the call: %+v", call)
	}
	got := 0
	collector := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		if part, err := spans.DecodeJSON(body); err == nil && q.URL.Path == "/v1/traces" {
			got += len(part)
			return
		}
		w.WriteHeader(http.StatusBadRequest)
	}))
	defer collector.Close()
	if n, err := SendOTLP(t.Context(), collector.URL, s); err != nil || n != len(all) || got != n {
		t.Errorf("%d spans sent, %d came, of %d: %v", n, got, len(all), err)
	}
	if _, err := SendOTLP(t.Context(), collector.URL+"/other", s); err == nil || !strings.Contains(err.Error(), "400") {
		t.Errorf("a collector that refuses: %v", err)
	}
}
