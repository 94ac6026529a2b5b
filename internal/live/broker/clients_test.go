package broker

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/live/broker/brokertest"
)

// another runs a client of another maker, and returns what it prints.
func another(t *testing.T, input, output any, args ...string) {
	t.Helper()
	dir := filepath.Join("testdata", "npm")
	if _, err := os.Stat(filepath.Join(dir, "node_modules")); err != nil {
		if os.Getenv("NIGHTDRILL_CI") != "" {
			t.Fatalf("the clients are not installed, and this test needs them in CI: npm ci in %s", dir)
		}
		t.Skipf("NOT TESTED: the clients are not installed: npm ci in %s", dir)
	}
	ctx, stop := context.WithTimeout(t.Context(), 3*time.Minute)
	defer stop()
	c := exec.CommandContext(ctx, "node", append([]string{"clients.mjs"}, args...)...)
	c.Dir = dir
	text, err := json.Marshal(input)
	if err != nil {
		t.Fatal(err)
	}
	var errs bytes.Buffer
	c.Stdin, c.Stderr = bytes.NewReader(text), &errs
	out, err := c.Output()
	if err != nil || json.Unmarshal(out, output) != nil {
		t.Fatalf("%v: %v\n%s%s", args, err, out, errs.String())
	}
}

// cloudEvents are events with what is hard about them: names beyond ASCII, data that is not JSON, data that looks like
// another type, none, and attributes of their own.
var cloudEvents = []string{
	`{"specversion":"1.0","id":"a 1","source":"/gate","type":"scan","time":"2026-03-28T10:00:00.25Z","shift":"night",` +
		`"datacontenttype":"application/json","partitionkey":"k1","data":{"n":1,"harbour":"Sinesão ✈"}}`,
	`{"specversion":"1.0","id":"b","source":"https://quay.example/gate?x=1","type":"scan","subject":"pass/7%25",` +
		`"time":"2026-03-28T10:00:01Z","datacontenttype":"text/plain","partitionkey":"k1","data":"calm sea"}`,
	`{"specversion":"1.0","id":"c","source":"/gate","type":"scan","time":"2026-03-28T10:00:02Z",` +
		`"datacontenttype":"application/json","partitionkey":"k1","data":[1,"2",null,{"a":[]}]}`,
}

// same fails when an event is not one of the events above: in its attributes and its data.
func same(t *testing.T, what string, got *event.Event, i int) {
	t.Helper()
	want, err := event.Parse([]byte(cloudEvents[i]))
	if err != nil {
		t.Fatal(err)
	}
	a, _ := got.Attribute("shift")
	b, _ := want.Attribute("shift")
	mediaType, _, _ := strings.Cut(got.DataContentType, ";")
	if got.ID != want.ID || got.Source != want.Source || got.Type != want.Type || !got.Time.Equal(want.Time) ||
		a != b || want.Subject != "" && got.Subject != want.Subject || mediaType != want.DataContentType ||
		string(got.Data) != string(want.Data) {
		t.Errorf("%s: %s\nwant %s", what, got.AppendJSON(nil), cloudEvents[i])
	}
}

// The SDK of CloudEvents for Node and an independent client of Kafka agree with what is copied, sent and acknowledged.
func TestClientsOfOtherMakers(t *testing.T) {
	var given []json.RawMessage
	for _, text := range cloudEvents {
		given = append(given, json.RawMessage(text))
	}
	t.Run("MQTT", func(t *testing.T) {
		var written []struct {
			Properties map[string]string
			Type       string
			Payload    []byte
		}
		another(t, given, &written, "written")
		for i, w := range written {
			m := Message{ContentType: w.Type, Data: w.Payload, Partition: -1}
			for name, value := range w.Properties {
				m.Headers = append(m.Headers, event.Field{Name: name, Value: value})
			}
			p, _, err := m.Payload("mqtt", "scans", nil)
			if err != nil {
				t.Fatal(err)
			}
			same(t, fmt.Sprint("form ", i), p.Event, i/2)
		}
		if len(written) != 2*len(given) {
			t.Errorf("%d forms", len(written))
		}
	})
	t.Run("HTTP", func(t *testing.T) {
		type request struct {
			Headers map[string]string `json:"headers"`
			Body    string            `json:"body"`
		}
		var sent []request
		for _, text := range given {
			e, err := event.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			binary := request{map[string]string{}, string(e.Data)}
			for _, h := range e.Headers() {
				binary.Headers[strings.ToLower(h.Name)] = h.Value
			}
			sent = append(sent, binary, request{map[string]string{"content-type": event.StructuredType},
				string(e.AppendJSON(nil))})
		}
		var read []json.RawMessage
		another(t, sent, &read, "read")
		for i, text := range read {
			e, err := event.Parse(text)
			if err != nil {
				t.Fatalf("%v: %s", err, text)
			}
			if i%2 == 0 { // in headers, and the SDK leaves the percent-decoding of §3.1.3.2 to its caller
				for _, set := range []*string{&e.ID, &e.Subject} {
					if *set, err = url.PathUnescape(*set); err != nil {
						t.Fatal(err)
					}
				}
			}
			same(t, fmt.Sprint("request ", i), &e, i/2)
		}
		if len(read) != len(sent) {
			t.Errorf("%d of %d were read", len(read), len(sent))
		}
	})
	t.Run("Kafka", func(t *testing.T) {
		s := under{brokertest.ServeOpen(t), t} // the broker of the tests does not name its ways to log in
		w := s.watch(s.Place())
		client := func(what string) (n int) {
			t.Helper()
			another(t, given, &n, what, fmt.Sprint(s.Port))
			return n
		}
		client("send")
		for i, m := range w.await(t, 2*len(given)) {
			p, _, err := m.Payload("kafka", "scans", nil)
			if err != nil {
				t.Fatal(err)
			}
			same(t, fmt.Sprint("record ", i), p.Event, i/2)
			if m.Key != "k1" {
				t.Errorf("record %d has the key %q", i, m.Key)
			}
		}
		w.stop()
		if n := client("acknowledged"); n != -1 {
			t.Errorf("copying made a group, which acknowledged %d records", n)
		}
		ctx, stop := context.WithTimeout(t.Context(), time.Minute)
		defer stop()
		taken := 0
		if err := s.broker().Take(ctx, s.TakePlace(), TakeOptions{Name: "nightdrill-test", Most: 1,
			Ready: func() {}, Note: func(text string) { t.Log(text) },
			Each: func(h *Held) {
				if err := h.Done(); err != nil {
					t.Error(err)
				}
				if taken++; taken == 2*len(given) {
					stop()
				}
			}}); err != nil {
			t.Fatal(err)
		}
		if n := client("acknowledged"); n != taken {
			t.Errorf("%d records are acknowledged, %d were done", n, taken)
		}
	})
}
