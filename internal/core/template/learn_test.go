package template

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
)

var examples = []struct {
	kind     Kind
	text     string
	template []string // parts of what is made
	anew     int
}{
	{Request, `{"edition": "3", "rawPath": "/north/quote/holm", "path": "/quote/holm", "httpMethod": "POST",
 "t": "{{x}}",
 "queryStrings": {"adults": "2"}, "rawQuery": "adults=2", "parameters": null,
 "headers": {"Host": "quay.example", "User-Agent": "desk/2.1 (tablet)"},
 "headerLists": {"Host": ["quay.example"], "User-Agent": ["desk/2.1 (tablet)"]},
 "meta": {"requestId": "3f0c5c9e-2a41-4c55-9d3b-0f6f1d2a9b11", "epoch": 1777629600123,
   "time": "01/May/2026:10:00:00 +0000", "agent": "desk/2.1 (tablet)"},
 "body": "{\"adults\": 2}", "coded": false}`,
		[]string{`"rawPath": {{json (print "/north" .Path)}}`, `"path": {{json .Path}}`,
			`"httpMethod": {{json .Method}}`,
			`"queryStrings": {{json .Query}}`, `"rawQuery": {{json .RawQuery}}`, `{{json (canonical .Header)}}`,
			`{{json (lists (canonical .Header))}}`, `"requestId": {{json .ID}}`, `"epoch": {{millis .Sent}}`,
			`"agent": {{json (index .Header "user-agent")}}`, `"body": {{json .Text}}`, `"parameters": null`}, 1},
	{Request, `{"method": "GET", "url": "/tides?day=1", "headers": {"x-desk": "north"}, "body": null}`,
		[]string{`{{json .Target}}`, `{{json .Header}}`, `{{if .Text}}{{json .Text}}{{else}}null{{end}}`}, 0},
	{Object, `{"records": [{"version": "1", "time": "2026-05-01T10:00:00.123Z", "what": "put",
  "store": {"bucket": {"name": "cargo"}, "object": {"key": "manifests/a.csv", "size": 1024, "tag": "ab12"}}}]}`,
		[]string{`[{{range $i, $e := .Events}}{{if $i}},{{end}}`, `"name": {{json (at "/bucket" $e.Data)}}`,
			`"key": {{json $e.Subject}}`, `"size": {{json (at "/size" $e.Data)}}`, `"what": "put"`,
			`{{json (date "2006-01-02T15:04:05.000Z07:00" $e.Sent)}}`}, 0},
	{Attributes, `{"messages": [{"messageId": "059f36b4-87a3-44ab-83d2-661975830a7d", "body": "eyJwYXNzIjoiQkYtMSJ9",
  "attributes": {"sentTimestamp": "1777629600000", "partitionKey": "BF"}}, {"messageId":
  "2e1424d4-f796-459a-8184-9c92662be6da", "body": "eyJwYXNzIjoiQkYtMiJ9", "attributes": {"sentTimestamp":
  "1777629600500",
  "partitionKey": "BG"}}]}`,
		[]string{`"body": {{json (base64 $e.Text)}}`, `{{json (print (millis $e.Sent))}}`,
			`$e.Attributes.partitionkey`}, 0},
	{Attributes, `{"message": {"data": {"pass": "BF-1"}, "messageId": "1234567890abcdef", "publishTime":
  "2026-05-01T10:00:00Z"}, "subscription": "gate"}`, []string{`"data": {{json .Data}}`, `"subscription": "gate"`}, 0},
}

// What a platform sends is made again of the event that the example is of, and of another one in the same form.
func TestLearn(t *testing.T) {
	for _, x := range examples {
		l, err := Learn([]byte(x.text), x.kind)
		if err != nil || len(l.Differs) > 0 {
			t.Errorf("%s: %v, %+v", x.text, err, l)
			continue
		}
		for _, part := range x.template {
			if !strings.Contains(l.Template, part) {
				t.Errorf("without %s:\n%s", part, l.Template)
			}
		}
		anew := 0
		for _, f := range l.Found {
			if f.Anew {
				anew++
			}
		}
		if anew != x.anew {
			t.Errorf("%d are made anew, want %d: %+v", anew, x.anew, l.Found)
		}
	}
	l, err := Learn([]byte(examples[3].text), Attributes)
	if err != nil {
		t.Fatal(err)
	}
	s, err := Parse("t", l.Template, "")
	if err != nil {
		t.Fatal(err)
	}
	other := &event.Event{ID: "s-1", Data: []byte("{}")}
	body, _, err := s.Body([]*event.Event{other}, time.UnixMilli(5), nil)
	if d := jsondiff.Between(
		[]byte(`{"messages": [{"messageId": "s-1", "body": "e30=", "attributes": {"sentTimestamp": `+
			`"5", "partitionKey": ""}}]}`), body, nil); err != nil || len(d) > 0 && !strings.Contains(d[0].At,
		"partitionKey") {
		t.Errorf("%v, %+v:\n%s", err, d, body)
	}
	for text, want := range map[string]string{"{": "not JSON", "\xff": "not UTF-8", `{"a": 1}`: "nothing in it"} {
		if _, err := Learn([]byte(text), Attributes); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	// the second entry has what the first does not: it is said
	l, err = Learn([]byte(`[{"id": "1234567890abcdef", "deck": "car"}, {"id": "1234567890abcdee", "deck": "foot"}]`),
		Attributes)
	if err != nil || len(l.Differs) != 1 || l.Differs[0].At != "/1/deck" {
		t.Errorf("%v, %+v", err, l)
	}
}

// Whatever is learned can be parsed and applied.
func FuzzLearn(f *testing.F) {
	for _, x := range examples {
		f.Add([]byte(x.text), byte(x.kind))
	}
	f.Fuzz(func(t *testing.T, text []byte, kind byte) {
		if l, err := Learn(text, Kind(kind%3)); err == nil && len(l.Found) == 0 {
			t.Error("nothing was found, and that is no error")
		} else if err != nil && strings.Contains(err.Error(), "template:") {
			t.Errorf("%v", err)
		}
	})
}
