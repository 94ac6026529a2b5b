package setsview

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/viewtest"
)

// screen is the view over a real desk.
type screen struct {
	*Model
	*viewtest.Screen
	dir    string
	stand  *session.Session
	fired  string
	mapped *catalog.Item // put on the map
}

func open(t *testing.T, w, h int) *screen {
	t.Helper()
	s, dir := viewtest.Project(t, http.NotFound, map[string]string{
		"nightdrill.yaml": `nightdrill: 1
project: quay
functions:
  teller: {transport: attach, url: "{url}"}
  clerk: {transport: attach, url: "{url}", deliver: shaped, shape: {template: '{"records":[{{json .Text}}]}'}}
sources:
  asks: {kind: http, wires: [{to: teller}]}
  jobs: {kind: queue, wires: [{to: clerk}]}
payloads:
  some: {recording: some.har, expect: {status: 200}}
  work: {recording: work.ndjson, fits: job.json}
  made: {schema: job.json, seed: 3, count: 40}
`,
		"some.har": `{"log":{"entries":[{"startedDateTime":"2026-05-01T10:00:00Z","request":{"method":"GET",` +
			`"url":"http://x/fare?to=holm","headers":[{"name":"Authorization","value":"Bearer ` +
			`redacted-0123456789abcdef"}]}},
			{"startedDateTime":"2026-05-01T10:00:09Z","request":{"method":"GET",
			  "url":"http://x/fare?to=skerry&token=hush-hush","headers":[{"name":"X-Api-Key",
			    "value":"hush-hush"}]}}]}}`,
		"work.ndjson": `{"specversion":"1.0","id":"w1","source":"s","type":"work.wanted","data":{"n":1,"deck":"car"}}` +
			"\n" +
			`{"specversion":"1.0","id":"w2","source":"s","type":"work.wanted","data":{"n":"two",` +
			`"deck":"car\u001b[2J"}}` + "\n",
		"job.json": `{"type":"object","required":["n","deck"],"additionalProperties":false,` +
			`"properties":{"n":{"type":"integer","minimum":1,"maximum":5},"deck":{"type":"string","minLength":3,` +
			`"maxLength":8},"rare":{"type":"boolean","x-made":{"present":0}}}}`,
	})
	m := New(s)
	x := &screen{Model: m, Screen: &viewtest.Screen{T: t, View: m}, dir: dir, stand: s}
	x.Sent = func(m tea.Msg) {
		switch m := m.(type) {
		case msg.Map:
			x.mapped = m.Item
		case Fire:
			x.fired = m.Key
		}
	}
	x.Do(x.Resize(w, h))
	return x
}

// A shape is learned from an example of the platform's form, shown, and written only where it makes the example
// again and the file is not there yet.
func TestAShapeFromAnExample(t *testing.T) {
	x := open(t, 150, 40)
	x.Press("down") // a set of events
	for file, text := range map[string]string{"good.json": `{"messageId": "3f0c5c9e-2a41-4c55-9d3b-0f6f1d2a9b11", ` +
		`"content": {"n": 1}}`,
		"none.json": `{"a": 1}`, "broken.json": "{"} {
		if err := os.WriteFile(filepath.Join(x.dir, file), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for file, want := range map[string]string{"gone.json": "no such file", "none.json": "nothing in it corresponds",
		"broken.json": "it is not JSON"} {
		x.Press("x")
		if x.Do(x.Asked.Done(file)); !strings.Contains(x.Note, want) {
			t.Errorf("%s: %q, want %q", file, x.Note, want)
		}
	}
	x.Press("x")
	x.Do(x.Asked.Done("good.json"))
	x.Shows("good.json as a shape for", "✓ it makes the example again", "/messageId", "the template")
	if x.Asked.Text != "shape.tmpl" {
		t.Fatalf("asked for %q", x.Asked.Text)
	}
	write := x.Asked.Done
	x.Do(write("shape.tmpl"))
	if text, err := os.ReadFile(filepath.Join(x.dir, "shape.tmpl")); err != nil ||
		!strings.Contains(string(text), "{{") {
		t.Fatalf("%v: %s", err, text)
	}
	if x.Do(write("shape.tmpl")); !strings.Contains(x.Note, "was not overwritten") {
		t.Errorf("said %q", x.Note)
	}
	x.Press("esc")
	x.Shows("!as a shape for")
}

// Each set is described: where it is from, how large, when, what occurs
// in it, what fits and where it does not.
func TestSets(t *testing.T) {
	x := open(t, 150, 40)
	x.Shows("some      2 recorded   for asks", "work      2 recorded", "made     40 generated", "as recorded over 9 s",
		"redacted  header Authorization, in 1", "expects   status 200", "No run has sent this set yet",
		"payload 1 of 2", "GET /fare?to=holm", "Bearer redacted-0123456789abcdef", `method`, "query", "100 %")
	x.Press("/")
	x.Answer("jobs")
	x.Shows("2 of 3 with “jobs”", "work      2 recorded", "!for asks")
	x.Press("/")
	x.Answer("nothing")
	x.Shows("No set has that")
	x.Press("esc", "up", "up")
	x.Press(".")
	x.Shows("payload 2 of 2", "to=skerry", "token=••••••", "!hush-hush")
	x.Press("down")
	x.Shows("✗ 1 of 2 violate job.json", "payload 1 of 2", "✓ fits", "integer 50 %, string 50 %")
	x.Press(".")
	x.Shows("✗ 1 errors", `"n": "two",  ◂ got string, want integer`)
	x.Press("f")
	x.Shows("clerk gets, shaped", "POST /", `"records": [`)
	x.Press("n")
	x.Do(x.Asked.Done("3"))
	if !strings.Contains(x.Note, "payloads 1 to 2") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("m")
	if !strings.Contains(x.Note, "was recorded") {
		t.Errorf("a recording in another mode: %q", x.Note)
	}
	for _, size := range [][2]int{{160, 43}, {100, 26}, {80, 20}} {
		x.Do(x.Resize(size[0], size[1]))
		x.Shows("Payload sets", "Fields")
	}
}

// What is made can be made otherwise for a look, kept, and sent to Fire.
func TestMadeOtherwise(t *testing.T) {
	x := open(t, 150, 40)
	x.Press("down", "down")
	x.Shows("✓ all satisfy job.json", "valid, seed 3", "integer, 1 to 5", "never", "required by job.json")
	before := string(x.payload().Data())
	x.Press("s")
	x.Shows("preview: valid, seed 4")
	if string(x.payload().Data()) == before {
		t.Error("another seed makes the same")
	}
	x.Press("m", "m")
	x.Shows("broken, seed 4", "✗ violates ", "◂ ")
	kept := string(x.payload().Data())
	x.Press("k")
	x.Do(x.Asked.Done("odd-one"))
	if content, err := os.ReadFile(filepath.Join(x.dir, "payloads", "jobs", "odd-one.event.json")); err != nil ||
		!strings.Contains(strings.Join(strings.Fields(string(content)), ""), kept) {
		t.Errorf("%v: %s lacks %s", err, content, kept)
	}
	x.Press("enter")
	found := false
	for _, i := range x.stand.List() {
		found = found || i.Key() == x.fired && i.Payload != nil && string(i.Payload.Data()) == kept
	}
	if !found {
		t.Errorf("Fire has no %q", x.fired)
	}
	x.Press("esc")
	x.Shows("payload 1 of 40")
	x.Press("enter")
	if x.fired != "jobs made#1" {
		t.Errorf("sent to Fire: %q", x.fired)
	}
	if x.Press("g"); x.mapped == nil || x.mapped.Key() != "jobs made#1" {
		t.Errorf("on the map: %+v", x.mapped)
	}
}

// Without any sets it says how to come by some.
func TestNoSets(t *testing.T) {
	x := open(t, 100, 26)
	x.plan.Sets = nil
	x.Shows("No payload sets yet.", "payloads import FILE", "record --to URL")
	x.Press("down", ".", "enter", "k", "s", "m", "g")
}
