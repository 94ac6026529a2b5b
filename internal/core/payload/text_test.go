package payload

import (
	"bytes"
	"reflect"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
)

var at = Values{Now: time.Date(2026, 11, 20, 18, 0, 0, 0, time.UTC), Counter: 3, Seed: 7,
	UUID: func() string { return "u-1" }}

// A payload written as text and read again is the payload, also where it holds
// what looks like an action.
func TestTextIsReadBack(t *testing.T) {
	for _, p := range []Payload{
		{Request: &event.Request{Method: "POST", Target: "/quote/x?a=%20b",
			Header: []event.Field{{Name: "Accept", Value: "text/plain"}},
			Body:   []byte("{{not an action}}\r\n\r\nmore")}},
		{Request: &event.Request{Method: "GET", Target: "/"}},
		{Event: &event.Event{ID: "1", Source: "s", Type: "t", Subject: "{{x}}", Data: []byte(`{"a":[1,2]}`)}},
		{Event: &event.Event{ID: "1", Source: "s", Type: "t", DataContentType: "image/png", Data: []byte{0, 1, 2},
			Binary: true}},
	} {
		text, err := Fill(p.Text(), at)
		if err != nil {
			t.Fatal(err)
		}
		back, err := ParseText(text, p.Request != nil)
		if err != nil || !reflect.DeepEqual(back, p) {
			t.Errorf("%s\nread back as %+v, %v", p.Text(), back, err)
		}
	}
	for _, http := range []bool{true, false} {
		text, err := Fill(Blank(http), at)
		if err != nil {
			t.Fatal(err)
		}
		if p, err := ParseText(text, http); err != nil || !http && p.Event.ID != "u-1" {
			t.Errorf("a blank payload: %v", err)
		}
	}
}

func TestActions(t *testing.T) {
	for text, want := range map[string]string{
		`{{now}} {{date}} {{unix}}`: "2026-11-20T18:00:00Z 2026-11-20 1795197600",
		`{{uuid}}/{{counter}}`:      "u-1/3",
		`{{random 4 4}}`:            "4",
		`{{pick "a"}}`:              "a",
		`{{nope}}`:                  `! line 1: function "nope" not defined`,
		`{{random 5 4}}`:            "! the second must not be less than the first",
		"a\n{{if}}":                 "! line 2",
		`{{pick}}`:                  "! pick needs at least one",
	} {
		got, err := Fill([]byte(text), at)
		if bad, ok := strings.CutPrefix(want, "! "); ok {
			if err == nil || !strings.Contains(err.Error(), bad) {
				t.Errorf("%s: error %v, want %q", text, err, bad)
			}
		} else if err != nil || string(got) != want {
			t.Errorf("%s: %q, %v; want %q", text, got, err, want)
		}
	}
	// another firing gives other numbers, the same firing the same
	next := at
	next.Counter++
	a, _ := Fill([]byte("{{random 1 1000000}}"), at)
	b, _ := Fill([]byte("{{random 1 1000000}}"), at)
	c, _ := Fill([]byte("{{random 1 1000000}}"), next)
	if !bytes.Equal(a, b) || bytes.Equal(a, c) {
		t.Errorf("random gave %s, %s and %s", a, b, c)
	}
}

func TestWrongTextsSayWhere(t *testing.T) {
	for _, c := range []struct {
		http       bool
		text, want string
	}{
		{true, "", "line 1"}, {true, "QUOTE me", "must begin with /"}, {true, "get / HTTP/1.1", "not an HTTP method"},
		{true, "GET /\nno header here\n", "line 2"}, {true, "GET /\na: b\nc d: e\n", "line 3"},
		{false, "{\n  \"id\": 1,\n}", "line 3, column 1"}, {false, `{"specversion":"1.0","source":"s","type":"t"}`,
			`"id" is missing`},
	} {
		if _, err := ParseText([]byte(c.text), c.http); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: error %v, want %q", c.text, err, c.want)
		}
	}
	r := &event.Request{Method: "POST", Target: "/a?b=c", Header: []event.Field{{Name: "X", Value: "it's"}},
		Body: []byte("d'e")}
	if got := Curl("http://h:1",
		r); got != `curl -i -X POST -H 'X: it'\''s' --data-binary 'd'\''e' 'http://h:1/a?b=c'` {
		t.Errorf("as a command: %s", got)
	}
}

func FuzzParseText(f *testing.F) {
	f.Add([]byte("POST /x HTTP/1.1\nA: b\n\nbody"), true)
	f.Add(Blank(false), false)
	f.Fuzz(func(t *testing.T, text []byte, http bool) {
		p, err := ParseText(text, http)
		if err != nil {
			return
		}
		filled, err := Fill(p.Text(), at)
		if err != nil {
			t.Fatal(err)
		}
		if again, err := ParseText(filled, http); err != nil || http && !reflect.DeepEqual(p, again) {
			t.Fatalf("%q\nread as %+v, again as %+v, %v", text, p, again, err)
		}
	})
}
