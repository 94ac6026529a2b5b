package project

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
)

const neighboured = `nightdrill: 1
spans: true
services:
  office: {start: [sleep, "{port}"]}
upstreams:
  rates:
    {url: "https://rates.example/v2/", env: RATES_URL, functions: [plan, book], ignore: [nonce, /sent],
     redact: [/card], latency: {times: 2}}
  berths:
    {service: office, env: BERTHS_URL, fail: 2%, status: stall, concurrency: 3, latency: {p50: 40ms, p99: 400ms},
     functions: [book]}
functions:
  plan: {start: [sleep, "1"]}
  book: {start: [sleep, "1"], spans: false}
sources:
  plans: {kind: http, wires: [{to: plan}]}
payloads: {}
drills: {}
`

func TestUpstreams(t *testing.T) {
	l, err := parse(t.Context(), t.TempDir(), []byte(neighboured))
	if err != nil {
		t.Fatal(err)
	}
	r, b := &l.Upstreams[0], &l.Upstreams[1]
	if r.URL != "https://rates.example/v2" || r.Times != 2 || len(r.Ignore) != 2 || len(r.Redact) != 1 ||
		!strings.HasSuffix(r.Recording, "upstreams/rates.har") || r.Mode != plan.ModeDefault {
		t.Errorf("rates: %+v", r)
	}
	if b.Service != 0 || b.Fail != 20_000 || b.Fault != plan.FaultStall || b.Concurrency != 3 ||
		b.P99 != 400*time.Millisecond {
		t.Errorf("berths: %+v", b)
	}
	p, k := &l.Functions[0], &l.Functions[1]
	if len(p.Upstreams) != 1 || len(p.Needs) != 0 || !p.Spans || len(k.Upstreams) != 2 || len(k.Needs) != 1 || k.Spans {
		t.Errorf("plan: %v %v %v; book: %v %v %v", p.Upstreams, p.Needs, p.Spans, k.Upstreams, k.Needs, k.Spans)
	}
	changed, err := ChangeUpstreams(l.Upstreams, []string{"rates=replay", "rates.p50=1ms", "rates.p99=2ms",
		"berths.status=404"})
	if err != nil || changed[0].Mode != plan.Replay || changed[0].Times != 0 || changed[1].Status != 404 ||
		l.Upstreams[0].Mode != plan.ModeDefault {
		t.Errorf("%v %+v", err, changed)
	}
	drill := &plan.Drill{}
	for recorded, want := range map[bool]plan.Mode{false: plan.Pass, true: plan.Replay} {
		if got := l.UpstreamsOf(drill, func(*plan.Upstream) bool { return recorded })[0].Mode; got != want {
			t.Errorf("in a drill, recorded %v: %v", recorded, got)
		}
	}
	if got := l.UpstreamsOf(nil, func(*plan.Upstream) bool { return true })[0].Mode; got != plan.Pass {
		t.Errorf("in the session: %v", got)
	}
}

func TestWrongUpstreams(t *testing.T) {
	for _, c := range [][2]string{
		{`, env: RATES_URL>>>`, `upstreams.rates.env is missing`},
		{`env: RATES_URL>>>env: 1X`, `"1X" is not the name of a variable`},
		{`"https://rates.example/v2/">>>ftp`, `"ftp" is not the URL of a service`},
		{`"https://rates.example/v2/">>>"http://u:p@rates.example"`, `a password does not belong in the project file`},
		{`{times: 2}>>>{times: 0}`, `must be a factor from 0.001 to 1000`},
		{`{p50: 40ms, p99: 400ms}>>>{p50: 40ms}`, `latency needs both p50 and p99`},
		{`{p50: 40ms, p99: 400ms}>>>{p50: 40ms, p99: 4ms}`, `p99 (4ms) must not be below p50 (40ms)`},
		{`fail: 2%>>>fail: 2`, `must be a share from 0% to 100%`},
		{`status: stall>>>status: crash`, `is not a status from 200 to 599, reset or stall`},
		{`service: office>>>service: ofice`, `unknown service "ofice"; did you mean office?`},
		{`[plan, book]>>>[pln]`, `unknown function "pln"; did you mean plan?`},
		{`redact: [/card]>>>redact: [card]`, `upstreams.rates.redact[0]: `},
		{`env: BERTHS_URL>>>env: RATES_URL`, `is the variable of rates already`},
		{`drills: {}>>>drills: {d: {feeds: [], upstreams: {rats: {mode: pass}}}}`,
			`unknown upstream; did you mean rates?`},
	} {
		change, want := c[0], c[1]
		was, is, _ := strings.Cut(change, ">>>")
		text := strings.Replace(neighboured, was, is, 1)
		if text == neighboured {
			t.Fatalf("%q is not in the file", was)
		}
		if _, err := parse(t.Context(), t.TempDir(), []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s:\n got %v\nwant %s", change, err, want)
		}
	}
	l, err := parse(t.Context(), t.TempDir(), []byte(neighboured))
	if err != nil {
		t.Fatal(err)
	}
	for change, want := range map[string]string{"rates": "expected NAME=MODE", "rats=pass": "did you mean rates?",
		"rates=drop": `"drop" is not a mode`, "rates.tims=2": `unknown setting "tims"`, "rates.p50=5ms": "needs both"} {
		if _, err := ChangeUpstreams(l.Upstreams, []string{change}); err == nil || !strings.Contains(err.Error(),
			want) {
			t.Errorf("%s: got %v, want %s", change, err, want)
		}
	}
}
