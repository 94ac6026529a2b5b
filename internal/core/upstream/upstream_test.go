package upstream

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

func request(line, body string) *event.Request {
	method, target, _ := strings.Cut(line, " ")
	return &event.Request{Method: method, Target: target, Body: []byte(body)}
}

// Requests are the same whatever the order of their parameters and members, and however their numbers are written.
func TestKeys(t *testing.T) {
	x := Ignore([]string{"nonce", "/sent", "/legs/*/id"})
	for _, c := range []struct {
		a, bodyA, b, bodyB string
		same               bool
	}{
		{"GET /r?b=2&a=1", "", "GET /r?a=1&b=2", "", true},
		{"GET /r?a=1&a=2", "", "GET /r?a=2&a=1", "", false}, // of one name, the order counts
		{"GET /r?a=%20", "", "GET /r?a=+", "", true},
		{"GET /r?a=1&nonce=7", "", "GET /r?nonce=8&a=1", "", true},
		{"GET /r?a", "", "GET /r?a=", "", true},
		{"GET /r", "", "HEAD /r", "", false},
		{"POST /r", `{"b": 1.0, "a": [1e2]}`, "POST /r", `{"a":[100],"b":10e-1}`, true},
		{"POST /r", `{"a": 0.1}`, "POST /r", `{"a": 0.10000000000000001}`, false},
		{"POST /r", `{"a": -0}`, "POST /r", `{"a": 0.0e7}`, true},
		{"POST /r", `{"a": 1, "sent": 5}`, "POST /r", `{"a": 1}`, true},
		{"POST /r", `{"legs": [{"id": 1, "x": 2}]}`, "POST /r", `{"legs": [{"id": 9, "x": 2}]}`, true},
		{"POST /r", `{"legs": [{"id": 1, "x": 2}]}`, "POST /r", `{"legs": [{"id": 1, "x": 3}]}`, false},
		{"POST /r", `{"id": 1} trailing`, "POST /r", `{"id": 1}`, false},
		{"POST /r", strings.Repeat("x", 5000), "POST /r", strings.Repeat("x", 5001), false},
	} {
		a, b := x.KeyOf(request(c.a, c.bodyA)), x.KeyOf(request(c.b, c.bodyB))
		if (a == b) != c.same {
			t.Errorf("%s %s and %s %s: same is %v, want %v\n%+v\n%+v", c.a, c.bodyA, c.b, c.bodyB, a == b, c.same, a, b)
		}
	}
}

func recorded(line, reply, of string) payload.Payload {
	return payload.Payload{Request: request(line, ""), Reply: &payload.Reply{Status: 200, Body: []byte(reply)},
		Call: &payload.Call{Of: of, Wait: 40 * time.Millisecond}}
}

// Each event gets the replies that were recorded for it, in their order, whatever else comes between; then the last
// again. Events that were not recorded share those of all.
func TestCursor(t *testing.T) {
	l := NewLibrary([]payload.Payload{recorded("GET /r", "1", "a"), recorded("GET /r", "2", "b"),
		recorded("GET /r", "3", "a"), recorded("GET /s", "4", "a")}, nil, nil)
	c := NewCursor(l)
	var got []string
	for _, caller := range []string{"a", "b", "a", "a", "b", "new", "new", "", "", "", ""} {
		e, again := c.Next(request("GET /r", ""), caller)
		word := caller + string(e.Reply.Body)
		if again {
			word += "+"
		}
		got = append(got, word)
	}
	if want := []string{"a1", "b2", "a3", "a3+", "b2+", "new1", "new2", "3", "1+", "2+", "3+"}; !slices.Equal(got,
		want) {
		t.Errorf("got %v, want %v", got, want)
	}
	if e, _ := c.Next(request("GET /t", ""), "a"); e != nil {
		t.Errorf("an entry for a request that was not recorded: %v", e)
	}
}

// Secrets match by their stand-ins, also those that another machine made.
func TestRedactedValuesMatch(t *testing.T) {
	redactor := func(key string) func(*event.Request) *event.Request {
		r := &payload.Redactor{Key: []byte(key), Set: "rates"}
		return func(q *event.Request) *event.Request {
			out, _, _ := r.Apply(payload.Payload{Request: q})
			return out.Request
		}
	}
	here := redactor("one key")
	p := recorded("GET /r?token=berth-4711&crossing=1", "1", "")
	p.Request = here(p.Request)
	if strings.Contains(p.Request.Target, "4711") {
		t.Fatalf("not redacted: %s", p.Request.Target)
	}
	other := recorded("GET /r?token=other&crossing=2", "2", "")
	other.Request = here(other.Request)
	for name, redact := range map[string]func(*event.Request) *event.Request{"here": here, "elsewhere": redactor("?")} {
		c := NewCursor(NewLibrary([]payload.Payload{p, other}, nil, redact))
		for target, want := range map[string]string{"/r?crossing=1&token=berth-4711": "1",
			"/r?crossing=2&token=other": "2"} {
			if e, _ := c.Next(request("GET "+target, ""), ""); e == nil || string(e.Reply.Body) != want {
				t.Errorf("%s, %s: %v, want %s", name, target, e, want)
			}
		}
	}
}

func TestNearest(t *testing.T) {
	l := NewLibrary([]payload.Payload{recorded("GET /berths?vessel=kittiwake&day=1", "1", ""),
		recorded("POST /bookings", "2", "")}, nil, nil)
	for line, want := range map[string]string{
		"GET /berths?vessel=gannet&day=1": `nearest: GET /berths?day=1&vessel=kittiwake; vessel is "gannet" and was ` +
			`"kittiwake"`,
		"GET /bookings": "nearest: POST /bookings; the method is GET",
		"GET " +
			"/berth": `nearest: GET /berths?day=1&vessel=kittiwake; the path is /berth, day is missing and was "1", `,
		"GET /tides": "nothing is recorded for the path /tides; recorded: /berths, /bookings",
		"GET /berths?vessel=kittiwake&day=1&token=s3cret": "token is •••••• and was missing",
	} {
		if got := l.Nearest(request(line, "")); !strings.Contains(got, want) {
			t.Errorf("%s:\n got %s\nwant %s", line, got, want)
		}
	}
}

// The drawn latencies have the percentiles that were set, the share of failures is kept, and the same call is drawn
// alike whatever came before it.
func TestDraws(t *testing.T) {
	b := plan.Behaviour{P50: 40 * time.Millisecond, P99: 400 * time.Millisecond, Fail: 20_000}
	const n = 100_000
	var all []time.Duration
	failed := 0
	for i := range n {
		d := NewDraw(7, "rates", fmt.Sprint(i%100), i/100)
		all = append(all, d.Latency(&b, time.Second))
		if d.Fails(&b) {
			failed++
		}
	}
	slices.Sort(all)
	for q, want := range map[float64]time.Duration{0.5: b.P50, 0.99: b.P99} {
		if got := all[int(q*n)]; math.Abs(float64(got)/float64(want)-1) > 0.03 {
			t.Errorf("the %v quantile is %v, want %v within 3 %%", q, got, want)
		}
	}
	if share := float64(failed) / n; math.Abs(share-0.02) > 0.002 {
		t.Errorf("%v failed, want 2 %%", share)
	}
	if NewDraw(7, "rates", "a", 3) != NewDraw(7, "rates", "a", 3) || NewDraw(7, "rates", "a", 3) == NewDraw(8, "rates",
		"a", 3) {
		t.Error("a draw depends on its seed alone")
	}
	twice := plan.Behaviour{Times: 0.5}
	if got := (Draw{}).Latency(&twice, 80*time.Millisecond); got != 40*time.Millisecond {
		t.Errorf("half of 80ms is %v", got)
	}
}

// FuzzKey checks that a canonical body is itself canonical.
func FuzzKey(f *testing.F) {
	f.Add("/r?b=1&a=2", `{"a": [1.50, {"b": null}], "c": -1e-7}`)
	x := Ignore(nil)
	f.Fuzz(func(t *testing.T, target, body string) {
		r := &event.Request{Method: "POST", Target: target, Body: []byte(body)}
		k := x.KeyOf(r)
		if len(k.Body) <= longBody && strings.HasPrefix(k.Body, "{") && k.Query != "" {
			again := x.KeyOf(&event.Request{Method: "POST", Target: k.Path + "?" + k.Query, Body: r.Body})
			if again.Query != k.Query {
				t.Errorf("%q, then %q", k.Query, again.Query)
			}
		}
	})
}

// The look-up of a reply among a thousand, with a body and a secret, against one look into a map.
func BenchmarkLookup(b *testing.B) {
	redactor := &payload.Redactor{Key: []byte("k"), Set: "rates"}
	redact := func(q *event.Request) *event.Request {
		out, _, _ := redactor.Apply(payload.Payload{Request: q})
		return out.Request
	}
	var all []payload.Payload
	for i := range 1000 {
		all = append(all, recorded(fmt.Sprintf("GET /berths/%d?vessel=kittiwake&day=%d", i%50, i), "1", fmt.Sprint(i)))
	}
	c := NewCursor(NewLibrary(all, nil, redact))
	r := request("GET /berths/7?day=757&vessel=kittiwake", "")
	b.Run("library", func(b *testing.B) {
		for i := range b.N {
			if e, _ := c.Next(r, fmt.Sprint(i%1000)); e == nil {
				b.Fatal("not found")
			}
		}
	})
}
