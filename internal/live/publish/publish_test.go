package publish

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

var errLater = errors.New("the drill is ending")

// opened opens an entrance to sources of all kinds, which keeps what it takes.
func opened(t testing.TB, take Taker) *Entrance {
	t.Helper()
	p := &plan.Project{Sources: []plan.Source{{Name: "scans", Kind: plan.Queue}, {Name: "vessels", Kind: plan.Stream},
		{Name: "fares", Kind: plan.HTTP}, {Name: "cargo", Kind: plan.Storage}, {Name: "nightly", Kind: plan.Schedule},
		{Name: "guarded", Kind: plan.Queue, Token: "abc"}}}
	e, err := Open("127.0.0.1:0", []string{"quay.example"}, func() *plan.Project { return p }, take,
		func(source string) (int, error) { return len(source), nil },
		func(err error) bool { return errors.Is(err, errLater) })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e
}

// What is published arrives as it was; what cannot be taken is refused with the status that says why and what to do,
// and nothing of it arrives.
func TestPublish(t *testing.T) {
	var mu sync.Mutex
	var got []payload.Payload
	var answer error
	trace := ""
	e := opened(t, func(_ int, all []payload.Payload, from string) error {
		mu.Lock()
		defer mu.Unlock()
		if answer == nil {
			got, trace = append(got, all...), from
		}
		return answer
	})
	const batch = "application/cloudevents-batch+json"
	one := func(id string) string {
		return `{"specversion":"1.0","id":"` + id + `","source":"/gate","type":"scan","data":{"n":1}}`
	}
	for _, c := range []struct {
		method, path, header, body string
		status                     int
		want                       string // of the answer
		arrive                     int
	}{
		{"POST", "/scans", "Ce-Specversion: 1.0|Ce-Id: s1|Ce-Source: /gate|Ce-Type: scan|Ce-Deck: car|" +
			"Content-Type: text/plain|" +
			"Traceparent: 00-a", "hello", 202, "", 1},
		{"POST", "/scans", "Content-Type: application/cloudevents+json", one("s2"), 202, "", 1},
		{"POST", "/vessels", "Content-Type: " + batch, "[" + one("s3") + "," + one("s4") + "]", 202, "", 2},
		{"POST", "/scans", "Content-Type: application/json", `{"pass":1}`, 202, "", 1},
		{"POST", "/scans", "", "\xff\x00", 202, "", 1},
		{"POST", "/scans", "Content-Type: " + batch, "[" + one("s5") + `,{"specversion":"1.0","id":"x",` +
			`"type":"t"}]`, 400,
			`event 2 of the batch: the required attribute "source"`, 0},
		{"POST", "/scans", "Content-Type: " + batch, "[" + one("s5"), 400, "not a batch", 0},
		{"POST", "/scans", "Ce-Id: 1", "", 400, "the attribute ce-specversion is missing", 0},
		{"POST", "/scans", "Ce-Specversion: 0.3|Ce-Id: 1|Ce-Source: a|Ce-Type: b", "", 400,
			`ce-specversion is "0.3"`, 0},
		{"POST", "/scans", "Ce-Specversion: 1.0|Ce-Id: 1|Ce-Source: a|Ce-Type: b|Ce-Time: noon", "", 400, "ce-time", 0},
		{"POST", "/scan", "", "x", 404, "did you mean scans?", 0},
		{"POST", "/", "", "x", 404, "sources: scans, vessels, guarded", 0},
		{"GET", "/scans", "", "", 405, "with POST, not GET", 0},
		{"POST", "/fares", "", "x", 409, "requests at the front", 0},
		{"POST", "/cargo", "", "x", 409, "PUT http", 0},
		{"POST", "/nightly", "", "x", 409, "its own events", 0},
		{"POST", "/scans", "", strings.Repeat("x", largest+1), 413, "larger than 16 MiB", 0},
		{"POST", "/scans", "Content-Type: application/cloudevents+avro", "x", 415, "not read", 0},
		{"POST", "/scans", "Content-Type: a/b/c", "x", 415, "cannot be read", 0},
		{"POST", "/scans", "Host: evil.example", "x", 421, "--allow-host evil.example", 0},
		{"POST", "/scans", "Host: quay.example", "x", 202, "", 1},
		{"POST", "/scans", "Origin: http://127.0.0.1:8422", "x", 403, "pages in a browser", 0},
		{"POST", "/guarded", "", "x", 401, "bearer token", 0},
		{"POST", "/guarded", "Authorization: Bearer abc", "x", 202, "", 1},
	} {
		mu.Lock()
		got = nil
		mu.Unlock()
		r, err := http.NewRequest(c.method, e.URL()+c.path, strings.NewReader(c.body))
		if err != nil {
			t.Fatal(err)
		}
		for h := range strings.SplitSeq(c.header, "|") {
			if name, value, ok := strings.Cut(h, ": "); name == "Host" {
				r.Host = value
			} else if ok {
				r.Header.Set(name, value)
			}
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != c.status || !strings.Contains(string(text), c.want) || c.status == 202 && len(text) > 0 ||
			len(got) != c.arrive {
			t.Errorf("%s %s %s: %d %s, %d arrive", c.method, c.path, c.header, resp.StatusCode, text, len(got))
		}
		if c.header != "" && strings.HasPrefix(c.header, "Ce-Specversion: 1.0|Ce-Id: s1") {
			x := got[0].Event
			if x.ID != "s1" || string(x.Data) != "hello" || x.DataContentType != "text/plain" || trace != "00-a" ||
				len(x.Extensions) != 1 {
				t.Errorf("%+v, %q", x, trace)
			}
		}
	}
	for _, err := range []error{errLater, errors.New("step 41 of a chain")} {
		mu.Lock()
		answer = err
		mu.Unlock()
		resp, wrong := http.Post(e.URL()+"/scans", "text/plain", strings.NewReader("x"))
		if wrong != nil {
			t.Fatal(wrong)
		}
		resp.Body.Close()
		if later := errors.Is(err, errLater); later != (resp.StatusCode == 503) ||
			later != (resp.Header.Get("Retry-After") !=
				"") {
			t.Errorf("%v: %d", err, resp.StatusCode)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("application/cloudevents+json", "1.0", []byte(`{"specversion":"1.0","id":"1","source":"a","type":"t"}`))
	f.Add("", "", []byte("x"))
	f.Fuzz(func(t *testing.T, kind, version string, body []byte) {
		h := http.Header{"Content-Type": {kind}}
		if version != "" {
			h.Set("Ce-Specversion", version)
			h.Set("Ce-Id", "1")
		}
		all, no := Read(h, body, "scans")
		if (no == nil) != (len(all) > 0) && no != nil {
			t.Fatalf("%d events and %v", len(all), no)
		}
		for i := range all {
			if all[i].Event == nil || all[i].Event.ID == "" {
				t.Fatalf("%+v", all[i])
			}
		}
	})
}

// BenchmarkPublish publishes events one at a time over connections that are kept, and in batches of 100.
func BenchmarkPublish(b *testing.B) {
	var n atomic.Int64
	e := opened(b, func(_ int, all []payload.Payload, _ string) error {
		n.Add(int64(len(all)))
		return nil
	})
	one := `{"specversion":"1.0","id":"s1","source":"/gate","type":"scan","data":{"pass":"BF-1815-001","deck":"car"}}`
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	for name, body := range map[string]string{"single": one, "batch": "[" + strings.Repeat(one+",", 99) + one + "]"} {
		kind := map[string]string{"single": "application/cloudevents+json",
			"batch": "application/cloudevents-batch+json"}[name]
		b.Run(name, func(b *testing.B) {
			before := n.Load()
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					resp, err := client.Post(e.URL()+"/scans", kind, bytes.NewReader([]byte(body)))
					if err != nil {
						b.Error(err)
						return
					}
					if resp.Body.Close(); resp.StatusCode != 202 {
						b.Error(fmt.Sprint(resp.StatusCode))
						return
					}
				}
			})
			b.ReportMetric(float64(n.Load()-before)/b.Elapsed().Seconds(), "events/s")
		})
	}
}

// Whatever is published to whatever topic, it is an event of a source, or refused with a reason.
func FuzzTopic(f *testing.F) {
	f.Add("scans/heron", "application/cloudevents+json",
		[]byte(`{"specversion":"1.0","id":"1","source":"a","type":"t"}`),
		"", true)
	f.Add("scans", "text/plain", []byte("x"), "specversion", true)
	f.Add("fares/+/#", "", []byte("x"), "id", false)
	p := &plan.Project{Sources: []plan.Source{{Name: "scans", Kind: plan.Queue}, {Name: "fares", Kind: plan.HTTP}}}
	f.Fuzz(func(t *testing.T, topic, kind string, body []byte, property string, five bool) {
		taken, noted := 0, ""
		h := &hook{project: func() *plan.Project { return p }, bad: func(text string) { noted = text },
			take: func(source int, all []payload.Payload, _ string) error {
				if taken++; source != 0 || len(all) != 1 || all[0].Event == nil {
					t.Fatalf("%d: %+v", source, all)
				}
				return nil
			}, refused: map[refusedID]bool{}}
		client := &mqtt.Client{ID: "c"}
		if five {
			client.Properties.ProtocolVersion = 5
		}
		pk := packets.Packet{TopicName: topic, Payload: body}
		pk.Properties.ContentType = kind
		pk.Properties.User = []packets.UserProperty{{Key: property, Val: "1.0"}}
		_, err := h.OnPublish(client, pk)
		if err == nil || (taken == 1) != (noted == "") {
			t.Fatalf("%v, %d taken, %q", err, taken, noted)
		}
	})
}
