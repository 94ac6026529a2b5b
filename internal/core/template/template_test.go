package template

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
)

// An event comes in the form that the template gives it: attributes, data,
// request parts, and a body that is JSON inside a string.
func TestShape(t *testing.T) {
	scan := func(id string) *event.Event {
		return &event.Event{ID: id, Source: "/gate/3", Type: "scan", Time: time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC),
			Extensions: []event.Field{{Name: "partitionkey", Value: "BF-1"}},
			Data:       []byte(`{"pass":"BF \"7\"","n":[1,2.50]}`)}
	}
	ask := &event.Request{Method: "GET", Target: "/quote/a?adults=2",
		Header: []event.Field{{Name: "Accept", Value: "a/b"}, {Name: "X-A", Value: "1"}, {Name: "x-a", Value: "2"}},
		Body:   []byte("hello")}
	for _, c := range []struct {
		text    string
		request *event.Request
		events  []*event.Event
		want    string
	}{
		{`{"id":{{json .ID}},"body":{{json .Text}},"at":{{millis .Time}}}`, nil, []*event.Event{scan("1")},
			`{"id":"1","body":"{\"pass\":\"BF \\\"7\\\"\",\"n\":[1,2.50]}","at":1777629600000} application/json`},
		{`{{range $i, $e := .Events}}{{if $i}},{{end}}{{$e.ID}}={{json (at "/n/1" $e.Data)}}{{end}}`, nil,
			[]*event.Event{scan("1"), scan("2")}, `1=2.50,2=2.50 text/plain; charset=utf-8`},
		{`{{.Attributes.partitionkey}} {{.Attributes.other}}|{{base64 "ab"}} {{date "15:04" .Time}} {{or_else ` +
			`"none" .Subject}}`, nil, []*event.Event{scan("1")}, `BF-1 |YWI= 10:00 none text/plain; charset=utf-8`},
		{`{{.Method}} {{.Path}} {{.Query.adults}} {{index .Header "x-a"}} {{base64 .Text}}`, ask, nil,
			"GET /quote/a 2 1, 2 aGVsbG8= text/plain; charset=utf-8"},
		{`{{parse .Text}}`, ask, nil, "! error calling parse"},
		{`{{range .Events}}{{template "x"}}{{end}}{{define "x"}}{{template "x"}}{{end}}`, ask, nil,
			"! templates call each other more than 1000 deep"},
	} {
		s, err := Parse("t", c.text, "")
		if err != nil {
			t.Fatal(err)
		}
		make := func() ([]byte, string, error) { return s.Body(c.events, time.Time{}, nil) }
		if c.request != nil {
			make = func() ([]byte, string, error) { return s.RequestBody(c.request, "", time.Time{}, nil) }
		}
		body, kind, err := make()
		if bad, ok := strings.CutPrefix(c.want, "! "); ok {
			if err == nil || !strings.Contains(err.Error(), bad) {
				t.Errorf("%s: %v, want %q", c.text, err, bad)
			}
		} else if got := string(body) + " " + kind; got != c.want || err != nil {
			t.Errorf("%s:\n%s, %v\nwant\n%s", c.text, got, err, c.want)
		}
	}
	if _, err := Parse("scan.tmpl", "{{.ID", ""); err == nil || !strings.Contains(err.Error(), "scan.tmpl:1") {
		t.Errorf("a template that is cut off: %v", err)
	}
}
