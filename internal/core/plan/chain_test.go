package plan

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/schedule"
	"nightdrill.dev/internal/core/template"
)

func parsed(t *testing.T, text string) *template.Shape {
	s, err := template.Parse("t", text, "")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A reply goes on where every condition holds, whichever fails alone.
func TestWhenAReplyGoesOn(t *testing.T) {
	then := Then{Status: []StatusRange{{200, 299}, {404, 404}}, Header: []event.Field{{Name: "X-Next", Value: "yes"}},
		Values: []payload.Value{{At: "/load/fits", Want: true}}}
	reply := func(status int, next, body string) *Reply {
		return &Reply{Status: status, Body: []byte(body), Header: func(name string) []string {
			if name == "X-Next" && next != "" {
				return []string{"no", next}
			}
			return nil
		}}
	}
	const fits = `{"load":{"fits":true}}`
	for _, c := range []struct {
		r    *Reply
		want bool
	}{
		{reply(200, "yes", fits), true}, {reply(404, "yes", fits), true}, {reply(500, "yes", fits), false},
		{reply(200, "", fits), false}, {reply(200, "maybe", fits), false},
		{reply(200, "yes", `{"load":{"fits":false}}`), false}, {reply(200, "yes", `{}`), false},
		{reply(200, "yes", "no JSON"), false},
	} {
		if got := then.Holds(c.r); got != c.want {
			t.Errorf("%d %s: %v", c.r.Status, c.r.Body, got)
		}
	}
	if got := then.Words(); got != ", if status 2xx or status 404 and header X-Next yes and /load/fits is true" {
		t.Errorf("in words %q", got)
	}
}

// What a reply becomes: an event with its body, or what a template makes of it; a
// request; an object with a key of its own.
func TestWhatAReplyBecomes(t *testing.T) {
	r := &Reply{Function: "load", Kind: "application/json", Body: []byte(`{"pass":"BF-1"}`), Subject: "in/a.csv",
		At: testTime}
	make := func(th Then, kind Kind) ChainEvent {
		t.Helper()
		o, err := th.Make(&Source{Kind: kind}, r, "load-7", nil)
		if err != nil {
			t.Fatal(err)
		}
		return o
	}
	if e := make(Then{Type: "pass"}, Queue).Payload.Event; string(e.Data) != `{"pass":"BF-1"}` || e.ID != "load-7" ||
		e.Type != "pass" || e.Source != "/load" || e.Subject != "in/a.csv" || e.DataContentType != "application/json" {
		t.Errorf("an event %+v", e)
	}
	if e := make(Then{Shape: parsed(t, "{{.Data.pass}}")}, Stream).Payload.Event; string(e.Data) != "BF-1" ||
		!strings.HasPrefix(e.DataContentType, "text/plain") {
		t.Errorf("a shaped event %+v", e)
	}
	if q := make(Then{Method: "PUT", Path: "/pass"}, HTTP).Payload.Request; q.Method != "PUT" || q.Target != "/pass" ||
		string(q.Body) != `{"pass":"BF-1"}` || q.Header[0].Value != "application/json" {
		t.Errorf("a request %+v", q)
	}
	if o := make(Then{Objects: parsed(t, "out/{{.ID}}.json\n")}, Storage); o.Key != "out/load-7.json" {
		t.Errorf("an object %+v", o)
	}
	if _, err := (&Then{Shape: parsed(t, "{{parse .Text}}")}).Make(&Source{}, &Reply{Body: []byte("no JSON")}, "x",
		nil); err == nil {
		t.Error("a template that fails makes something")
	}
	r.Kind, r.Body = "image/png", []byte{0x89, 0}
	if e := make(Then{}, Queue).Payload.Event; !e.Binary {
		t.Error("bytes are not text")
	}
	for text, want := range map[string]string{`"{\"a\":1}"`: "", `"[1]"`: "", `{"a":1}`: "-", `"plain"`: "-",
		`"{no"`: "-", ``: "-", `"\"x\""`: "-",
		`{"status":200,"body":"{\"pass\":\"BF-1\"}"}`: "/body", `{"a/b":" [1] ","c":"[1]"}`: "/a~1b",
		`{"a":{"b":"[1]"}}`: "-", `["[1]"]`: "-"} {
		if place, ok := Doubled([]byte(text)); ok != (want != "-") || ok && place != want {
			t.Errorf("%s is encoded twice: %v, at %q", text, ok, place)
		}
	}
}

// The times of a stretch of a drill's clock, in their order over several
// expressions, with what a night of changing clocks did.
func TestTimesOfANight(t *testing.T) {
	z, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) *schedule.Spec {
		s, err := schedule.Parse(text, z)
		if err != nil {
			t.Fatal(err)
		}
		return &s
	}
	src := &Source{Name: "nightly", Times: []schedule.Spec{*at("30 1 * * *"), schedule.Every(12*time.Hour, z)}}
	c := &Clock{From: time.Date(2026, 3, 28, 22, 0, 0, 0, z), For: 24 * time.Hour}
	events, after, notes := TimesOf(src, c, nil)
	if len(events) != 2 || after[0] != 3*time.Hour || after[1] != 12*time.Hour || len(notes) != 1 ||
		!strings.Contains(notes[0], "nightly: 01:30 does not exist on 2026-03-29") {
		t.Errorf("%v, %v", after, notes)
	}
	if e := events[0].Event; string(
		e.Data) != `{"due":"2026-03-29T02:00:00+01:00","schedule":"30 1 * * *","zone":"Europe/Lisbon"}` ||
		e.Type != "schedule.due" || e.ID != "nightly-20260329T010000Z" {
		t.Errorf("%+v %s", e, e.Data)
	}
	set := &payload.Set{Payloads: []payload.Payload{{Event: &event.Event{ID: "x", Type: "own", Data: []byte("1")}}}}
	if events, _, _ = TimesOf(src, c, set); events[1].Event.Type != "own" || string(events[1].Event.Data) != "1" ||
		events[0].Event.ID == events[1].Event.ID || events[1].Event.Time.IsZero() {
		t.Errorf("with payloads of its own: %+v", events[1].Event)
	}
}
