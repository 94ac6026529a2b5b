package plan

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/route"
)

var testTime = time.Unix(1_790_000_000, 0).UTC()

func path(t *testing.T, text string) route.Pattern {
	p, err := route.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Where a path is taken with another method, that wire is the nearest, and not one with
// the method and a path that looks alike.
func TestAnotherMethodIsNearerThanAnotherPath(t *testing.T) {
	when := func(method, pattern string) Wire {
		return Wire{When: route.When{Method: method, Path: path(t, pattern)}}
	}
	for _, c := range []struct{ method, target, want string }{
		{"GET", "/b", "the method is GET, the wire wants POST"},
		{"DELETE", "/orders/17", "the method is DELETE, the wire wants PUT"},
		{"GET", "/orderz", "the path is /orderz, the wire wants /orders"},
	} {
		p := &Project{Functions: []Function{{Name: "f"}},
			Sources: []Source{{Kind: HTTP, Wires: []Wire{when("GET", "/a"), when("POST", "/b"), when("GET", "/orders"),
				when("PUT", "/orders/{id}"), when("HEAD", "/{rest...}")}}}}
		if got := p.NearestMiss(0, &payload.Payload{Request: &event.Request{Method: c.method,
			Target: c.target}}); !strings.HasSuffix(got, c.want) {
			t.Errorf("%s %s: %s, want %s", c.method, c.target, got, c.want)
		}
	}
}

// For each kind of condition, an event for which it is the only one that fails;
// with what it wants the same event is taken.
func TestTheOnlyConditionThatFails(t *testing.T) {
	upload := func(bucket, key, action string) *payload.Payload {
		o := event.Object{Bucket: bucket, Key: key, Action: action}
		return &payload.Payload{Event: o.Event("1", testTime)}
	}
	scan := func(kind string, x ...event.Field) *payload.Payload {
		return &payload.Payload{Event: &event.Event{ID: "1", Source: "/quay", Type: kind, Extensions: x}}
	}
	ask := func(method, target string, h ...event.Field) *payload.Payload {
		return &payload.Payload{Request: &event.Request{Method: method, Target: target, Header: h}}
	}
	cargo := route.When{Bucket: "cargo", Key: "manifests/*.csv", Action: []string{event.Created, event.Overwritten}}
	scans := route.When{Attributes: []event.Field{{Name: "type", Value: "brackwater.pass.*"},
		{Name: "quay", Value: "3"}}}
	fares := route.When{Method: "GET", Path: path(t, "/quote/{crossing}"),
		Query: []event.Field{{Name: "cars", Value: "*"}}, Header: []event.Field{{Name: "X-Desk", Value: "north"}}}
	desk := event.Field{Name: "x-desk", Value: "north"}
	quay := event.Field{Name: "quay", Value: "3"}
	for _, c := range []struct {
		kind  Kind
		when  route.When
		taken *payload.Payload
		miss  *payload.Payload
		want  string
	}{
		{Storage, cargo, upload("cargo", "manifests/a.csv", "created"), upload("Cargo", "manifests/a.csv", "created"),
			"the bucket is Cargo, the wire wants cargo: they differ only in case"},
		{Storage, cargo, upload("cargo", "manifests/a.csv", "overwritten"), upload("cargo", "manifests/a.csv",
			"removed"), "the action is removed, the wire wants created or overwritten"},
		{Storage, cargo, nil, upload("cargo", "manifests/a.CSV", "created"),
			"the key manifests/a.CSV ends in .CSV, the wire wants manifests/*.csv: they differ only in case"},
		{Storage, cargo, nil, upload("cargo", "manifests/a.txt", "created"),
			"the key manifests/a.txt ends in .txt, the wire wants manifests/*.csv"},
		{Storage, cargo, nil, upload("cargo", "manifests/a", "created"),
			"the key manifests/a ends in no extension, the wire wants manifests/*.csv"},
		{Storage, cargo, nil, upload("cargo", "a.csv", "created"),
			"the key a.csv is in no folder, the wire wants manifests/*.csv"},
		{Storage, cargo, nil, upload("cargo", "manifests/2026/a.csv", "created"),
			"the key manifests/2026/a.csv is in the folder manifests/2026/, the wire wants manifests/*.csv"},
		{Queue, scans, scan("brackwater.pass.scanned", quay), scan("brackwater.car.scanned", quay),
			"the attribute type is brackwater.car.scanned, the wire wants brackwater.pass.*"},
		{Stream, scans, nil, scan("brackwater.pass.scanned"), "the event has no attribute quay, the wire wants 3"},
		{HTTP, fares, ask("GET", "/quote/north?cars=2", desk), ask("POST", "/quote/north?cars=2", desk),
			"the method is POST, the wire wants GET"},
		{HTTP, fares, nil, ask("GET", "/quotes/north?cars=2", desk),
			"the path is /quotes/north, the wire wants /quote/{crossing}"},
		{HTTP, fares, nil, ask("GET", "/quote/north", desk), "the query parameter cars is missing, the wire wants any"},
		{HTTP, fares, nil, ask("GET", "/quote/north?cars=2", event.Field{Name: "X-Desk", Value: "south"}),
			"the header x-desk is south, the wire wants north"},
		{HTTP, fares, nil, ask("GET", "/quote/north?cars=2"), "the header x-desk is missing, the wire wants north"},
	} {
		p := Project{Functions: []Function{{Name: "far"}, {Name: "near"}},
			Sources: []Source{{Name: "s", Kind: c.kind, Wires: []Wire{
				{To: 0, When: route.When{Bucket: "x", Key: "x", Method: "DELETE", Path: path(t, "/x/y/z"),
					Query: []event.Field{{Name: "far", Value: "1"}}, Attributes: []event.Field{{Name: "y", Value: "y"},
						{Name: "z", Value: "z"}, {Name: "q", Value: "q"}}}}, {To: 1, When: c.when}}}}}
		if c.taken != nil && p.Routes(0, c.taken) != 2 {
			t.Errorf("%s: it is not taken: %s", c.want, p.NearestMiss(0, c.taken))
		}
		if got := p.NearestMiss(0, c.miss); got != "nearest is the wire to near: "+c.want {
			t.Errorf("got  %s\nwant nearest is the wire to near: %s", got, c.want)
		}
		failed := 0
		for _, x := range p.Explain(0, c.miss)[1].Conditions {
			if !x.Held {
				failed++
			}
		}
		if failed != 1 {
			t.Errorf("%s: %d conditions fail", c.want, failed)
		}
	}
	// secrets are wanted in silence
	p := Project{Functions: []Function{{Name: "f"}},
		Sources: []Source{{Kind: HTTP, Wires: []Wire{{When: route.When{Header: []event.Field{{Name: "X-Api-Key",
			Value: "open-sesame"}}}}}}}}
	if got := p.NearestMiss(0, ask("GET", "/", event.Field{Name: "x-api-key", Value: "guess"})); strings.Contains(got,
		"sesame") || strings.Contains(got, "guess") {
		t.Error(got)
	}
	// a request of any length is told in a line
	if got := p.NearestMiss(0, ask("GET", "/"+strings.Repeat("x", 100_000))); len(got) > 400 {
		t.Errorf("%d characters", len(got))
	}
}

// What the entrance answers by itself is not an event: what browsers ask first, and
// OPTIONS of a path that is there, unless a wire wants it.
func TestWhatASourceAnswersItself(t *testing.T) {
	from, asks := event.Field{Name: "origin", Value: "http://pages.example"},
		event.Field{Name: "Access-Control-Request-Method", Value: "PUT"}
	ask := func(method, target string, header ...event.Field) *payload.Payload {
		return &payload.Payload{Request: &event.Request{Method: method, Target: target, Header: header}}
	}
	wires := []Wire{{When: route.When{Method: "PUT", Path: path(t, "/fare/{to}")}},
		{When: route.When{Method: "OPTIONS", Path: path(t, "/own")}}}
	p := Project{Functions: []Function{{Name: "f"}}, Sources: []Source{{Kind: HTTP, Wires: wires}, {Kind: Queue}}}
	for _, c := range []struct {
		source int
		of     *payload.Payload
		want   bool
	}{
		{0, ask("OPTIONS", "/fare/north?x=1", from, asks), true}, {0, ask("OPTIONS", "/nowhere", from, asks), true},
		{0, ask("OPTIONS", "/fare/north"), true},
		{0, ask("OPTIONS", "/fare/north", from), true}, {0, ask("OPTIONS", "/nowhere"), false},
		{0, ask("OPTIONS", "/own"), false},
		{0, ask("PUT", "/fare/north", from, asks), false}, {0, ask("GET", "/fare/north"), false},
		{1, ask("OPTIONS", "/fare/north", from, asks), false},
	} {
		if got := p.Itself(c.source, c.of); got != c.want || got && !strings.Contains(p.NearestMiss(c.source, c.of),
			"itself") {
			t.Errorf("source %d and %s with %v: %v", c.source, c.of.Label(), c.of.Request.Header, got)
		}
	}
}

// Keys are sorted the same way each time: into partitions by a hash that any
// program can compute, into groups in the order in which they come.
func TestSorter(t *testing.T) {
	at := func(id, data string, x ...event.Field) *payload.Payload {
		return &payload.Payload{Event: &event.Event{ID: id, Data: []byte(data), Extensions: x}}
	}
	p := Project{Sources: []Source{{Kind: Stream, Key: "/vessel", Partitions: 4}, {Kind: Queue, Key: "group"},
		{Kind: Queue}}}
	s := p.NewSorter()
	if a, b := s.Key(0, at("1", `{"vessel":"Heron"}`)), s.Key(0, at("2", `{"vessel":"Heron","at":3}`)); a != b ||
		a != int32(Partition("Heron", 4))+1 {
		t.Errorf("one vessel is in partitions %d and %d", a, b)
	}
	// FNV-1a of "a", 64 bits (draft-eastlake-fnv, appendix)
	if got := Partition("a", 1<<30); got != 0xaf63dc4c8601ec8c%(1<<30) {
		t.Errorf("partition %d", got)
	}
	if n := s.Key(0, at("no key", "{}")); n < 1 || n > 4 {
		t.Errorf("a record without a key is in partition %d", n)
	}
	var got []int32
	for _, g := range []string{"x", "y", "x", ""} {
		if g == "" {
			got = append(got, s.Key(1, at("1", "{}")))
			continue
		}
		got = append(got, s.Key(1, at("1", "{}", event.Field{Name: "group", Value: g})))
	}
	if got[0] != 1 || got[1] != 2 || got[2] != 1 || got[3] != 0 || s.Key(2, at("1", "{}")) != 0 {
		t.Errorf("groups %v", got)
	}
	if x, _ := (&Source{Key: "/n/0"}).KeyText(at("1", `{"n":[17]}`)); x != "17" {
		t.Errorf("a number as key is %q", x)
	}
}
