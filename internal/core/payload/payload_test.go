package payload

import (
	"strings"
	"testing"
	"time"
)

const har = `{"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "entries": [
  {"startedDateTime": "2026-11-20T18:00:01.500+01:00", "request": {"method": "POST",` +
	` "url": "http://fares.example/quote?cars=1&x=%20", "headers": [
     {"name": ":authority", "value": "fares.example"}, {"name": "Connection", "value": "close"}, {"name": "X-Desk",` +
	` "value": "3"}],
     "postData": {"mimeType": "application/json", "text": "{\"a\":1}"}}},
  {"startedDateTime": "yesterday", "request": {"method": "GET", "url": "http://fares.example/"}},
  {"startedDateTime": "2026-11-20T17:00:01Z", "request": {"method": "PUT", "url": "/x",` +
	` "postData": {"text": "AAE=", "encoding": "base64"}}}
]}}`

func TestHAR(t *testing.T) {
	got, mistakes := Read([]byte(har))
	if len(got) != 2 || len(mistakes) != 1 {
		t.Fatalf("%d payloads and mistakes %v; want 2 and 1", len(got), mistakes)
	}
	if m := mistakes[0]; m.Line != 5 || !strings.Contains(m.Text, "log.entries[1]: startedDateTime") {
		t.Errorf("mistake %+v; want line 5 and entry 1", m)
	}
	r := got[0].Request
	if r.Method != "POST" || r.Target != "/quote?cars=1&x=%20" || string(r.Body) != `{"a":1}` {
		t.Errorf("request %+v", r)
	}
	if len(r.Header) != 1 || r.Header[0].Name != "X-Desk" {
		t.Errorf("headers %v; want those of the connection left out", r.Header)
	}
	if string(got[1].Request.Body) != "\x00\x01" {
		t.Errorf("body %q", got[1].Request.Body)
	}
	set := Set{Payloads: got}
	if off, _, ok := set.Offsets(); !ok || off[0] != 500*time.Millisecond || off[1] != 0 {
		t.Errorf("offsets %v %v", off, ok)
	}
}

func TestLinesNameTheBrokenOneAndKeepTheRest(t *testing.T) {
	line := `{"specversion":"1.0","id":"1","source":"s","type":"t","time":"2026-11-20T18:00:00Z"}`
	got, mistakes := Read([]byte("\xef\xbb\xbf" + line + "\r\n\n{\"id\": oops}\n" + line))
	if len(got) != 2 || len(mistakes) != 1 || mistakes[0].Line != 3 {
		t.Fatalf("%d payloads, mistakes %v", len(got), mistakes)
	}
	for text, want := range map[string]string{
		"":                         "empty",
		`{"log": {"entries": []}}`: "no log.entries",
		`{"log": {"entries": 7}}`:  "HAR",
	} {
		if _, m := Read([]byte(text)); len(m) != 1 || !strings.Contains(m[0].Text, want) {
			t.Errorf("%q: %v, want %q", text, m, want)
		}
	}
}

func TestABatchNamesTheBrokenEvent(t *testing.T) {
	one := `{"specversion":"1.0","id":"1","source":"s","type":"t"}`
	got, mistakes := Read([]byte("[" + one + ",\n  {\"id\": \"2\"},\n " + one + "]"))
	if len(got) != 2 || len(mistakes) != 1 || mistakes[0].Line != 2 || mistakes[0].Column != 3 ||
		!strings.Contains(mistakes[0].Text, "event 2") {
		t.Fatalf("%d payloads, mistakes %v", len(got), mistakes)
	}
	for text, want := range map[string]string{"[]": "empty", "[1,": "not a JSON batch", "[7]": "event 1"} {
		if _, m := Read([]byte(text)); len(m) == 0 || !strings.Contains(m[len(m)-1].Text, want) {
			t.Errorf("%q: %v, want %q", text, m, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(har))
	f.Add([]byte(`{"specversion":"1.0","id":"1","source":"s","type":"t"}`))
	f.Fuzz(func(t *testing.T, content []byte) {
		payloads, mistakes := Read(content)
		if len(payloads) == 0 && len(mistakes) == 0 && len(strings.TrimSpace(string(content))) > 0 {
			t.Error("neither payloads nor mistakes")
		}
		for i := range payloads {
			_ = payloads[i].Label()
		}
	})
}
