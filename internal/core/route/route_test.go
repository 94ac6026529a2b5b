package route

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
)

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern, path string
		want          bool
	}{
		{"/quote/{crossing}", "/quote/skerry-holm", true},
		{"/quote/{crossing}", "/quote/", false},
		{"/quote/{crossing}", "/quote", false},
		{"/quote/{crossing}", "/quote/a/b", false},
		{"/quote/{crossing}/legs", "/quote/a/legs", true},
		{"/quote", "/quote", true},
		{"/quote", "/Quote", false},
		{"/", "/", true},
		{"/", "/x", false},
		{"/files/{path...}", "/files/a/b", true},
		{"/files/{path...}", "/files", true},
		{"/{path...}", "/", true},
		{"/caf\u00e9", "/caf%C3%A9", true},
	} {
		p, err := Parse(c.pattern)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Matches(c.path); got != c.want {
			t.Errorf("%s takes %s: %v, want %v", c.pattern, c.path, got, c.want)
		}
	}
	for _, bad := range []string{"quote", "/{}", "/{a...}/b", "/x{a}", "/{a"} {
		if _, err := Parse(bad); err == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
}

func TestConditions(t *testing.T) {
	path, _ := Parse("/quote/{crossing}")
	named := When{Method: "GET", Path: path, Query: []event.Field{{Name: "day", Value: "*"},
		{Name: "to", Value: "a b"}}, Header: []event.Field{{Name: "X-Desk", Value: "north"},
		{Name: "X-Api-Key", Value: "open-sesame"}}}
	if text := named.String(); text != "GET "+path.Text()+"?day=*&to=a+b, x-desk: north, x-api-key: "+payload.Hidden {
		t.Errorf("the route is called %s", text)
	}
	w := When{Method: "GET", Path: path, Query: []event.Field{{Name: "cars", Value: "2"}, {Name: "day", Value: "*"}},
		Header: []event.Field{{Name: "accept", Value: "application/json"}}}
	r := event.Request{Method: "GET", Target: "/quote/x?cars=2&day=",
		Header: []event.Field{{Name: "Accept", Value: "application/json"}}}
	if !w.Matches(&r) {
		t.Error("a request that fulfils all conditions is not taken")
	}
	for what, change := range map[string]func(*event.Request){
		"method": func(r *event.Request) { r.Method = "POST" },
		"path":   func(r *event.Request) { r.Target = strings.Replace(r.Target, "quote", "fare", 1) },
		"query":  func(r *event.Request) { r.Target = strings.Replace(r.Target, "cars=2", "cars=3", 1) },
		"absent": func(r *event.Request) { r.Target = strings.Replace(r.Target, "day", "dav", 1) },
		"header": func(r *event.Request) { r.Header = nil },
	} {
		other := r
		change(&other)
		if w.Matches(&other) {
			t.Errorf("a request with another %s is taken", what)
		}
	}
}
