package cli

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/measure"
)

// neighboured lays a project whose function asks a service that is slow and faulty.
func neighboured(t *testing.T, upstream, more string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS("testdata/neighbours")); err != nil {
		t.Fatal(err)
	}
	var asks strings.Builder
	for i := range 20 {
		fmt.Fprintf(&asks, "{\"request\": {\"method\": \"GET\", \"url\": \"http://x/plan?vessel=v%d\", "+
			"\"headers\": []}, "+
			"\"response\": {\"status\": 0, \"headers\": [], \"content\": {}}},\n", i)
	}
	put(t, filepath.Join(dir, "asks.har"), `{"log": {"version": "1.2", "entries": [`+strings.TrimSuffix(asks.String(),
		",\n")+"]}}")
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
services:
  office-of-others: {start: [python3, office.py]}
upstreams:
  office: {`+upstream+`, env: OFFICE_URL}
functions:
  plan: {handler: "plan.py:plan", start_timeout: 60s, concurrency: {max: 6}, keep_warm: 6}
sources:
  plans: {kind: http, wait: 60s, wires: [{to: plan}]}
payloads:
  asks: {recording: asks.har}
drills:
  evening: {feeds: [{source: plans, payloads: asks, arrive: [{steady: 40/s, for: 500ms}]}]}
`+more)
	return dir
}

func summaryOf(t *testing.T, dir string, args ...string) *measure.Summary {
	t.Helper()
	file := filepath.Join(t.TempDir(), "summary.json")
	out, errs, code := nightdrill(t, append([]string{"--project", dir, "run", "evening", "--json", file}, args...)...)
	if code != 0 {
		t.Fatalf("%v: exit %d\n%s%s", args, code, out, errs)
	}
	var s measure.Summary
	if err := json.Unmarshal([]byte(read(t, file)), &s); err != nil {
		t.Fatal(err)
	}
	return &s
}

// A drill that was recorded once against a slow, faulty service is replayed ten times with the service gone: each
// event gets the same reply, call for call, and the time in calls is the same. The secret is in no file.
func TestADrillIsReplayedWithTheNetworkCut(t *testing.T) {
	has(t, "python3")
	dir := neighboured(t, "service: office-of-others", "")
	first := summaryOf(t, dir, "--upstream", "office=record").Functions["plan"]
	was := first.Upstreams["office"]
	if was.Calls < 40 || was.Failed == 0 || was.AfterFailure == nil || was.AfterFailure.CallsEach <= 2 ||
		first.Own == nil {
		t.Fatalf("recorded: %+v", was)
	}
	config := read(t, filepath.Join(dir, "nightdrill.yaml"))
	put(t, filepath.Join(dir, "nightdrill.yaml"), strings.NewReplacer("service: office-of-others",
		`url: "http://127.0.0.1:1"`).Replace(config))
	closest := math.Inf(1)
	for range 10 {
		s := summaryOf(t, dir)
		is := s.Functions["plan"].Upstreams["office"]
		if is.Calls != was.Calls || is.Failed != was.Failed || is.Replayed != was.Calls || is.Missing+is.Repeated > 0 ||
			s.Upstreams[0].Mode != "replay" {
			t.Fatalf("recorded %+v\nreplayed %+v", was, is)
		}
		// never sooner than it was; how much later is up to the machine, so the closest of all counts
		ratio := *is.Ms.Mean / *was.Ms.Mean
		if ratio < 0.99 {
			t.Errorf("calls took %.3f of what was recorded", ratio)
		}
		closest = min(closest, ratio)
	}
	if closest > 1.05 {
		t.Errorf("calls took at least %.3f of what was recorded", closest)
	}
	out, errs, code := nightdrill(t, "--project", dir, "runs", "list", "--json")
	var runs []struct{ Run string }
	if code != 0 || json.Unmarshal([]byte(out), &runs) != nil || len(runs) != 11 {
		t.Fatalf("%s%s", out, errs)
	}
	for _, r := range runs[:10] {
		out, _, _ := nightdrill(t, "--project", dir, "compare", runs[10].Run, r.Run)
		if !strings.Contains(out, "All 20 events got the same replies.") {
			t.Errorf("the first run and %s:\n%s", r.Run, out)
		}
	}
	for _, file := range []string{"upstreams/office.har", ".nightdrill/runs.db"} {
		if strings.Contains(read(t, filepath.Join(dir, file)), "s3cret") {
			t.Errorf("the secret is in %s", file)
		}
	}
	// what is not recorded fails, with the nearest named, and never reaches the network
	put(t, filepath.Join(dir, "other"), "GET /plan?vessel=other HTTP/1.1\n\n")
	out, _, _ = nightdrill(t, "--project", dir, "fire", "plans", filepath.Join(dir, "other"), "--upstream",
		"office=replay")
	for _, want := range []string{"GET /berths?vessel=other", "status 502, not in the recording",
		"nearest: GET /berths?"} {
		if !strings.Contains(out, want) || strings.Contains(out, "s3cret") {
			t.Errorf("without %q, or with the secret:\n%s", want, out)
		}
	}
	half := summaryOf(t, dir, "--upstream", "office.times=0.5").Functions["plan"].Upstreams["office"]
	if half.Ms.Mean == nil || *half.Ms.Mean > 0.8**was.Ms.Mean {
		t.Errorf("twice as fast: %v ms, recorded %v", *half.Ms.Mean, *was.Ms.Mean)
	}
	for change, want := range map[string]string{"offce=pass": `did you mean office?`, "office=off": "is not a mode",
		"office.fail=x": "must be a share"} {
		if _, errs, code := nightdrill(t, "--project", dir, "run", "evening", "--upstream", change); code != 2 ||
			!strings.Contains(errs, want) {
			t.Errorf("--upstream %s: exit %d, %s", change, code, errs)
		}
	}
	if err := os.Remove(filepath.Join(dir, "upstreams", "office.har")); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := nightdrill(t, "--project", dir, "run", "evening", "--upstream", "office=replay"); code != 3 ||
		!strings.Contains(errs, "nothing was recorded yet") {
		t.Errorf("without a recording: exit %d, %s", code, errs)
	}
}

// Spans are tied to their invocations, in figures, sentences, exports and comparisons, and their secrets are left out.
func TestSpans(t *testing.T) {
	has(t, "python3")
	dir := neighboured(t, "service: office-of-others", "spans: true\n")
	s := summaryOf(t, dir)
	f := s.Functions["plan"]
	selects, whole := f.Spans["SELECT fares"], f.Spans["plan"]
	if selects.N != 60 || selects.PerInvocation != 3 || whole.N != 20 || whole.Share == nil ||
		*whole.Own > *whole.Share {
		t.Errorf("spans: %+v %+v", selects, whole)
	}
	out, _, _ := nightdrill(t, "--project", dir, "runs", "show", "last")
	for _, want := range []string{"plan  SELECT fares", "plan was instrumented", "in calls to office"} {
		if !strings.Contains(out, want) {
			t.Errorf("without %q:\n%s", want, out)
		}
	}
	out, errs, code := nightdrill(t, "--project", dir, "fire", "plans", "asks", "--json")
	var fired struct {
		Firings []struct {
			Calls []firedCall
			Spans []firedSpan
		}
	}
	if code != 0 || json.Unmarshal([]byte(out), &fired) != nil || len(fired.Firings) != 1 {
		t.Fatalf("exit %d %s%s", code, out, errs)
	}
	if x := fired.Firings[0]; len(x.Calls) < 2 || len(x.Spans) != 4 || strings.Contains(out, "Ada") ||
		strings.Contains(out, "s3cret") {
		t.Errorf("calls %v, spans %v\n%s", x.Calls, x.Spans, out)
	}
	put(t, filepath.Join(dir, "nightdrill.yaml"), strings.Replace(read(t, filepath.Join(dir, "nightdrill.yaml")),
		"spans: true", "spans: false", 1))
	summaryOf(t, dir)
	out, _, _ = nightdrill(t, "--project", dir, "runs", "list", "--json")
	var runs []struct{ Run string }
	if json.Unmarshal([]byte(out), &runs) != nil || len(runs) != 2 {
		t.Fatal(out)
	}
	if out, _, _ := nightdrill(t, "--project", dir, "compare", runs[1].Run, runs[0].Run); !strings.Contains(out,
		"plan sent spans in one run and not in the other") {
		t.Errorf("compared:\n%s", out)
	}
}
