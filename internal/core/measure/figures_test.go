package measure_test

import (
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/stats"
)

// Whatever is written, a budget is read or refused by name; one that is read can be
// judged on any run, and says what happened to it.
func FuzzParseBudget(f *testing.F) {
	for _, text := range []string{"function quote cold p95 < 900ms", "source fares rejected <= 2%",
		"project cost_per_million < 0.6", "chain cargo max < 1s", "function quote memory <= 1GiB",
		"project done >= 3/s", "function quote p99.99 != 1ns", "project all wait p50 < 1s"} {
		f.Add(text)
	}
	r := recordtest.Fixture()
	f.Fuzz(func(t *testing.T, text string) {
		b, err := measure.ParseBudget(text)
		if err != nil {
			if !strings.Contains(err.Error(), "budget ") {
				t.Fatalf("%q: the error is %v", text, err)
			}
			return
		}
		if b.Kind == "" || b.Op == "" || math.IsNaN(b.Bound) {
			t.Fatalf("%q was read as %+v", text, b)
		}
		r.Budgets = []string{text}
		v := report.Summarize(r).Budgets[0]
		if report.BudgetSays(&v) == "" || v.Held && v.Few || v.Held && v.Measured == nil {
			t.Fatalf("%q: %+v", text, v)
		}
	})
}

// Over many histories, whatever functions did: everything that is counted in several
// places is counted alike, percentiles rise, intervals hold their value, and filters cut
// the run into parts without a rest.
func TestFiguresAgreeOverManyHistories(t *testing.T) {
	var seen struct{ Cold, Rejected, Chains, Open, Routes, Intervals int }
	for seed := range uint64(400) {
		r := recordtest.History(seed)
		p := report.NewPage(r)
		s := p.Summary
		fail := func(format string, args ...any) { t.Errorf("seed %d: "+format, append([]any{seed}, args...)...) }
		var all measure.Counts
		for _, c := range s.Sources {
			all.Arrived += c.Arrived
			all.Published += c.Published
			for o := range engine.Outcomes {
				*all.Of(o) += *c.Of(o)
				all.Deliveries += *c.Of(o)
			}
		}
		all.Unexpected = s.Events.Unexpected
		if all != s.Events || s.Events.Arrived != len(r.Arrivals) {
			fail("the sources add up to %+v, the run has %+v", all, s.Events)
		}
		attempts, started := 0, 0
		for fn, name := range p.Functions {
			f := s.Functions[name]
			attempts += f.Attempts
			started += f.Instances.Started
			n := 0
			for _, c := range []*measure.Figures{&f.Latency.Cold, &f.Latency.First, &f.Latency.Warm, &f.Latency.Retried,
				&f.Service.Cold, &f.Service.Warm, &f.Wait.Warm, &f.Start, &f.Phases.Answer} {
				last := -math.MaxFloat64
				for _, v := range []*float64{c.P50, c.P95, c.P99, c.Max} {
					if v != nil && *v < last {
						fail("%s: the percentiles fall: %+v", name, c)
					} else if v != nil {
						last = *v
					}
				}
				if c.P50 != nil {
					seen.Intervals++
				}
				if c.P50Lo != nil && (*c.P50Lo > *c.P50 || *c.P50Hi < *c.P50) || (c.P50Lo == nil) != (c.N == 0 ||
					c.Needs[0] > 0) || c.P50 != nil && !stats.Enough(0.5, c.N) || c.P95 != nil && !stats.Enough(0.95,
					c.N) {
					fail("%s: a percentile of %d samples outside of its interval: %+v", name, c.N, c)
				}
			}
			for _, k := range p.Time.Functions[fn].Done {
				n += k
			}
			if whole := f.Latency.N(); n != whole {
				fail("%s: the timeline has %d answers, the classes %d", name, n, whole)
			}
			spread := 0
			for c := range p.Spreads[fn].Latency {
				for _, k := range p.Spreads[fn].Latency[c].Counts {
					spread += k
				}
			}
			for _, k := range p.Spreads[fn].Retried.Counts {
				spread += k
			}
			if spread != n {
				fail("%s: the distribution has %d answers, the timeline %d", name, spread, n)
			}
			routes := 0
			for _, route := range f.Routes {
				routes += route.N()
				seen.Routes++
			}
			if len(f.Routes) > 0 && name == "f@b" && routes != f.Latency.N() {
				fail("%s: its one route has %d answers, the function %d", name, routes, f.Latency.N())
			}
			seen.Cold += f.Latency.Cold.N
		}
		if attempts != len(r.Attempts) || started != len(r.Instances) {
			fail("%d attempts and %d instances, the run has %d and %d", attempts, started, len(r.Attempts),
				len(r.Instances))
		}
		seen.Rejected += s.Events.Rejected
		seen.Chains += len(s.Chains)
		seen.Open += s.Events.Abandoned
		events, calls := 0, 0
		for _, f := range []record.Filter{{Source: "a"}, {Source: "b"}, {Source: "c"}} {
			part := r.Filter(f)
			events, calls = events+len(part.Deliveries), calls+len(part.Invocations)
			if again := part.Filter(f); len(again.Deliveries) != len(part.Deliveries) ||
				len(again.Invocations) != len(part.Invocations) {
				fail("%s takes other things from its own part", f)
			}
		}
		if events != len(r.Deliveries) || calls != len(r.Invocations) {
			fail("by source there are %d deliveries and %d invocations, want %d and %d", events, calls,
				len(r.Deliveries), len(r.Invocations))
		}
		if c := report.Compare("f", []measure.Side{{"f", r, 0}, {"b", r, 1}}, nil); len(c.Sides) != 2 ||
			len(report.Rows(c)) == 0 {
			fail("the comparison is %+v", c)
		}
		if turns := record.TurnsOf(r, r); turns.Other != 0 {
			fail("against itself, %+v", turns)
		}
		if text := strings.Join(p.Sentences(), "\n"); strings.Contains(text, "NaN") || strings.Contains(text, "%!") ||
			strings.Contains(text, "Inf") {
			fail("the sentences are\n%s", text)
		}
	}
	if seen.Cold < 1000 || seen.Rejected < 1000 || seen.Chains < 100 || seen.Open < 500 || seen.Routes < 100 ||
		seen.Intervals < 1000 {
		t.Errorf("too little was common in the histories: %+v", seen)
	}
}

// What is behind is what came and did not end; its age is that of the oldest.
func TestLagOverTime(t *testing.T) {
	r := &record.Run{Length: recordtest.At(1200), Busy: math.NaN(), Functions: []record.Function{{Name: "f"}},
		Sources: []record.Source{{Name: "s", Kind: "queue", To: []int{0}}}}
	for i, ended := range []int{50, 700, 900, 0} { // one comes every 100 ms; the last never ends
		r.Arrivals = append(r.Arrivals, record.Arrival{Due: recordtest.At(100 * i), Arrived: recordtest.At(100 * i),
			From: -1})
		if ended > 0 {
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(i), Ended: recordtest.At(ended)})
		}
	}
	s := report.NewPage(r).Time.Sources[0]
	step := report.NewPage(r).Time.Step
	for at, want := range map[int]struct {
		Behind int
		Lag    time.Duration
	}{95: {0, 0}, 195: {1, 100}, 495: {3, 400}, 795: {2, 600}, 1195: {1, 900}} {
		k := int(time.Duration(recordtest.At(at)) / step)
		if got := s.Lag[k]; s.Behind[k] != want.Behind || got < want.Lag*time.Millisecond-step ||
			got > want.Lag*time.Millisecond+step {
			t.Errorf("at %d ms %d are behind, the oldest by %v; want %d, %d ms", at, s.Behind[k], got, want.Behind,
				want.Lag)
		}
	}
}

// The point from which a function is warm is where it stops getting faster, and a
// function that never does is warm at once.
func TestWhereWarmingUpEnds(t *testing.T) {
	for want, service := range map[int]func(n int) float64{
		1:  func(int) float64 { return 5 },
		2:  func(n int) float64 { return map[bool]float64{true: 9, false: 5}[n == 1] },
		17: func(n int) float64 { return map[bool]float64{true: 9, false: 5}[n <= 16] },
		97: func(n int) float64 { return map[bool]float64{true: 5.6, false: 5}[n <= 96] },
	} {
		for seed := range uint64(20) {
			r := &record.Run{Functions: []record.Function{{Name: "f"}}, Instances: make([]record.Instance, 8)}
			rnd := rng.New(seed, 1)
			for in := range r.Instances {
				for n := 1; n <= 400; n++ {
					d := time.Duration(service(n)*1e6) + rnd.Exp(300*time.Microsecond)
					r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(len(r.Invocations) + 1),
						Instance: int32(in), Sent: 1, Assigned: 1, Done: 1 + recordtest.At(0).Add(d)})
				}
			}
			w := measure.Analyze(r).Summary.Functions["f"].WarmUp
			if w.Steady == nil || *w.Steady != want {
				t.Errorf("seed %d: warm from %v on, want %d", seed, *w.Steady, want)
			}
			n := 0
			for _, p := range w.Points {
				n += p.N
			}
			if n != 8*400 {
				t.Fatalf("the points hold %d invocations", n)
			}
		}
	}
}

// Cost is the rates times what was billed: computed by hand.
func TestCostByHand(t *testing.T) {
	r := recordtest.Fixture()
	r.Functions[0].Memory = 512 << 20
	r.Rates = &plan.Rates{Currency: "EUR", GiBSecond: 2, Request: 0.5, RoundUp: 100 * time.Millisecond,
		Billed: []string{"start", "invocation"}}
	r.Instances[0].Peak, r.Instances[1].Peak = 1, 0
	// quote: a start of 100 ms and answers of 19 and 4 ms, each rounded up to 100: 0.3 s of 0.5 GiB
	s := report.Summarize(r)
	if c := s.Functions["quote"].Cost; c == nil || math.Abs(c.Memory-0.3) > 1e-9 || c.Requests != 1 ||
		math.Abs(c.Total-1.3) > 1e-9 || math.Abs(*c.PerMillion-650_000) > 1e-3 || !c.MemoryKnown {
		t.Errorf("quote cost %+v", c)
	}
	if c := s.Functions["boarding"].Cost; c.MemoryKnown || c.Memory != 0 || math.Abs(c.Seconds-(0.1+0.1+1)) > 1e-9 {
		t.Errorf("boarding, of which no memory is known, cost %+v", c)
	}
	r.Rates.Billed = []string{"idle"} // 101 ms to 4 s, less 23 ms of work, rounded up
	if c := report.Summarize(r).Functions["quote"].Cost; math.Abs(c.Seconds-3.9) > 1e-9 {
		t.Errorf("idle time %v s", c.Seconds)
	}
	if held := *s.Functions["quote"].Resources.Held; math.Abs(held-0.5*3.999) > 1e-9 {
		t.Errorf("held %v GiB·s", held)
	}
}

// A run is held against an earlier one: beyond the noise, and by more than is allowed.
func TestAgainstABaseline(t *testing.T) {
	run := func(id string, seed uint64, times float64, lost int) *record.Run {
		r := &record.Run{ID: id, Functions: []record.Function{{Name: "f"}},
			Sources:   []record.Source{{Name: "s", To: []int{0}}},
			Instances: make([]record.Instance, 1)}
		rnd := rng.New(seed, 1)
		for i := range 500 {
			at := recordtest.At(10 * i)
			d := time.Duration(times * float64(5*time.Millisecond+rnd.Exp(time.Millisecond)))
			r.Arrivals = append(r.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1})
			r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(i + 1), Assigned: at, Sent: at,
				Done:  at.Add(d),
				Batch: 1})
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1),
				Ended:   at.Add(d),
				Outcome: map[bool]engine.Outcome{true: engine.Failed}[i%(500/lost) == 0]})
		}
		return r
	}
	base := run("base", 1, 1, 3)
	if all := measure.Against(&record.Run{Functions: base.Functions}, base, 0.1); len(all) != 1 || !all[0].Few {
		t.Errorf("nothing to compare: %+v", all)
	}
	for _, c := range []struct {
		Now  *record.Run
		Held string
	}{{run("a", 2, 1, 3), "++"}, {run("b", 3, 1.08, 3), "++"}, {run("c", 4, 1.4, 3), "-+"},
		{run("d", 5, 0.5, 40), "+-"}} {
		held := ""
		for _, v := range measure.Against(c.Now, base, 0.10) {
			held += map[bool]string{true: "+", false: "-"}[v.Held]
		}
		if held != c.Held {
			t.Errorf("run %s: %s, want %s: %+v", c.Now.ID, held, c.Held, measure.Against(c.Now, base, 0.10))
		}
	}
}

// Identical code fails the gate in at most one pair of runs in twenty, also where
// messages come in batches and a batch fails as a whole; code that is slower does fail.
func TestIdenticalCodePassesTheGate(t *testing.T) {
	if testing.Short() {
		t.Skip("of shares among many runs")
	}
	failed, slow := 0, 0
	const pairs = 200
	for seed := range uint64(pairs) {
		base, now := recordtest.Batches(2*seed, 2000), recordtest.Batches(2*seed+1, 2000)
		if misses(measure.Against(now, base, 0)) {
			failed++
		}
		for i := range now.Invocations {
			v := &now.Invocations[i]
			v.Done = v.Sent.Add(4 * v.Done.Sub(v.Sent))
		}
		if misses(measure.Against(now, base, 0)) {
			slow++
		}
	}
	if share := float64(failed) / pairs; share > 0.085 {
		t.Errorf("identical code fails in %.3f of %d pairs of runs", share, pairs)
	}
	if share := float64(slow) / pairs; share < 0.95 {
		t.Errorf("four times as long is noticed in %.3f of them", share)
	}
}

func misses(all []measure.Verdict) bool {
	for _, v := range all {
		if !v.Held && !v.Few {
			return true
		}
	}
	return false
}

// Inference counts invocations: 600 messages in about 110 batches carry a median with
// its interval, but not one of p95.
func TestBatchMatesAreOneSample(t *testing.T) {
	p := measure.Collect(recordtest.Batches(1, 600))
	if n := p[0].Latency[engine.Warm].Units(); n < 90 || n > 130 {
		t.Fatalf("%d units", n)
	}
	f := report.Summarize(recordtest.Batches(1, 600)).Functions["f"]
	if l, s := f.Latency.Warm, f.Service.Warm; l.N != 600 || l.P50Lo == nil || l.P95 == nil || l.P95Lo != nil ||
		l.Needs[1] <= 600 || s.Needs[1] <= 600 {
		t.Errorf("latency %+v, service %+v", l, s)
	}
}

// GET and POST of one wire are routes of their own, each with its statuses.
func TestAWireOfAnyMethodIsARouteForEach(t *testing.T) {
	r := recordtest.Fixture()
	r.Sources[0].Routes[0] = "any /quote"
	r.Payloads = []record.Payload{{Set: "x", N: 1, Label: "GET /quote"}, {Set: "x", N: 2, Label: "POST /quote"}}
	r.Arrivals[1].Payload, r.Invocations[1].Status = 1, 201
	routes := report.Summarize(r).Functions["quote"].Routes
	if get, post := routes["GET /quote"], routes["POST /quote"]; len(routes) != 2 || get.Statuses["200"] != 1 ||
		get.Cold.N != 1 || post.Statuses["201"] != 1 || post.Warm.N != 1 {
		t.Errorf("%+v", routes)
	}
	part := r.Filter(record.Filter{Route: "POST /quote"})
	if len(part.Invocations) != 1 || part.Invocations[0].Status != 201 || len(part.Deliveries) != 1 {
		t.Errorf("of POST there are %+v", part.Deliveries)
	}
}

// Of two starts nothing is said about warming up, however slow their first answers were.
func TestWarmingUpTakesInstances(t *testing.T) {
	r := &record.Run{Functions: []record.Function{{Name: "f"}}, Instances: make([]record.Instance, 6)}
	for n := range 200 {
		for in := range 6 {
			took := 5*time.Millisecond + time.Duration(n%7)*time.Microsecond
			if n == 0 {
				took *= 10
			}
			r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(len(r.Invocations) + 1),
				Instance: int32(in),
				Sent:     1,
				Assigned: 1, Done: 1 + clock.Time(took)})
		}
	}
	if w := measure.Analyze(r).Summary.Functions["f"].WarmUp; w.Steady == nil || *w.Steady != 2 {
		t.Errorf("of six: %q", report.WarmUpText(&w))
	}
	for i := range r.Invocations {
		r.Invocations[i].Instance %= 2
	}
	if w := measure.Analyze(r).Summary.Functions["f"].WarmUp; w.Steady != nil || w.Gain != nil ||
		report.WarmUpText(&w) != "2 instances: too few samples (needs 6)" {
		t.Errorf("of two: %q", report.WarmUpText(&w))
	}
}

func TestASummaryAddsUp(t *testing.T) {
	s := report.Summarize(recordtest.Fixture())
	if want := (measure.Counts{Arrived: 5, Deliveries: 5, Done: 2, DeadLettered: 1, Rejected: 1,
		Abandoned: 1}); s.Events != want {
		t.Errorf("events %+v, want %+v", s.Events, want)
	}
	q, b := s.Functions["quote"], s.Functions["boarding"]
	if *q.Latency.Cold.Max != 120 || *q.Service.Cold.Max != 19 || *q.Latency.Warm.Max != 4 || *q.Start.Max != 100 ||
		q.Latency.Cold.P50 != nil {
		t.Errorf("quote: cold %v, service %v, warm %v, start %v", *q.Latency.Cold.Max, *q.Service.Cold.Max,
			*q.Latency.Warm.Max, *q.Start.Max)
	}
	// latency is from the first due to the last done; a timed-out attempt stays in
	// a delivery of several attempts is in a population of its own
	if *b.Latency.Retried.Max != 1120 || b.Latency.Cold.N != 0 || b.Latency.Warm.N != 0 || b.Timeouts != 1 ||
		b.Attempts != 2 || b.Statuses["500"] != 1 {
		t.Errorf("boarding %+v", b)
	}
	if r := q.Routes["GET /quote"]; r.Cold.N != 1 || r.Warm.N != 1 {
		t.Errorf("route %+v", r)
	}
	// routes of two sources that are called the same are one
	twice := recordtest.Fixture()
	twice.Sources[1].Kind, twice.Sources[1].Routes, twice.Sources[1].To = "http", []string{"GET /quote"}, []int{0}
	twice.Invocations[3].Function = 0
	if r := report.Summarize(twice).Functions["quote"].Routes["GET /quote"]; r.Cold.N != 1 || r.Warm.N != 1 ||
		r.Retried.N != 1 || r.Statuses["200"] != 2 || r.Statuses["500"] != 1 {
		t.Errorf("two wires of one name: %+v", r)
	}
	held := ""
	for _, v := range s.Budgets {
		held += map[bool]string{true: "+", false: "-"}[v.Held]
	}
	if held != "+--+" || !strings.Contains(s.Budgets[1].Why, "p50 needs 6") {
		t.Errorf("budgets %s %+v", held, s.Budgets)
	}
	text := strings.Join(report.NewPage(recordtest.Fixture()).Sentences(), "\n")
	for _, want := range []string{"fares: 1 of 4 requests rejected", "scans: 1 event retried", "1 event dead-lettered",
		"1 delivery was open", "boarding replied with status 500 (1) of 1 invocation"} {
		if !strings.Contains(text, want) {
			t.Errorf("the sentences\n%s\ndo not say %q", text, want)
		}
	}
}

func TestBudgetsAreReadStrictly(t *testing.T) {
	for text, want := range map[string]measure.Budget{
		"function quote cold p95 < 900ms": {Of: "function", Name: "quote", Kind: "latency", Class: "cold",
			Figure: "p95", Unit: "ms", Op: "<", Bound: 900},
		"function quote all p99.9 < 1s": {Of: "function", Name: "quote", Kind: "latency", Figure: "p99.9",
			Unit: "ms", Op: "<", Bound: 1000},
		"source fares wait p50 < 1s": {Of: "source", Name: "fares", Kind: "wait", Figure: "p50",
			Unit: "ms", Op: "<", Bound: 1000},
		"function quote@node memory <= 192MiB": {Of: "function", Name: "quote@node", Kind: "memory", Figure: "max",
			Unit: "MiB", Op: "<=", Bound: 192},
		"function quote unexpected <= 0.5%": {Of: "function", Name: "quote", Kind: "count", Figure: "unexpected",
			Unit: "%", Op: "<=", Bound: 0.5},
		"source fares done >= 150/s": {Of: "source", Name: "fares", Kind: "count", Figure: "done",
			Unit: "/s", Op: ">=", Bound: 150},
		"project cost < 0.02": {Of: "project", Kind: "cost", Figure: "cost", Op: "<", Bound: 0.02},
		"function quote warm service p50 <= 1.5ms": {Of: "function", Name: "quote", Kind: "service", Class: "warm",
			Figure: "p50", Unit: "ms", Op: "<=", Bound: 1.5},
		"function api status 4xx < 1%": {Of: "function", Name: "api", Kind: "count", Figure: "status 4xx",
			Unit: "%", Op: "<", Bound: 1},
		"function etl cold == 0": {Of: "function", Name: "etl", Kind: "count", Figure: "cold", Op: "=="},
		"source scans retried p95 < 2s": {Of: "source", Name: "scans", Kind: "latency", Class: "retried",
			Figure: "p95", Unit: "ms", Op: "<", Bound: 2000},
		"function quote start max < 2s": {Of: "function", Name: "quote", Kind: "start", Figure: "max", Unit: "ms",
			Op: "<", Bound: 2000},
		"function quote crashes == 0": {Of: "function", Name: "quote", Kind: "count", Figure: "crashes", Op: "==",
			Bound: 0},
		"project rejected <= 20": {Of: "project", Kind: "count", Figure: "rejected", Op: "<=", Bound: 20},
	} {
		want.Text = text
		if got, err := measure.ParseBudget(text); err != nil || got != want {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
	}
	for _, bad := range []string{"", "function", "function quote", "function quote cold p95 < 900",
		"function quote cold p95 900ms",
		"source scans lost == 0", "project done == many", "source scans done == 1 or so",
		"function quote start service p50 < 1s",
		"function quote cold crashes == 0", "source fares start p50 < 1s", "source fares memory < 1MiB",
		"chain cargo cold p50 < 1s", "source fares arrived < 5%", "function quote p100 < 1s",
		"function quote memory < 5",
		"project rejected < NaN", "function quote all == 0", "function quote status ok < 1%",
		"function quote retried service p50 < 1s", "function quote status 4x < 1",
		"function quote start cold p50 < 1s"} {
		if b, err := measure.ParseBudget(bad); err == nil {
			t.Errorf("%q was read as %+v", bad, b)
		}
	}
}

// many returns a run of so many invocations, all of one function, and how long each took.
func many(n int) (r *record.Run, took []time.Duration) {
	r = recordtest.Fixture()
	r.Arrivals, r.Invocations, r.Attempts, r.Deliveries = nil, nil, nil, nil
	rnd := rng.New(1, 1)
	for i := range n {
		at := recordtest.At(i)
		d := rnd.Exp(5 * time.Millisecond)
		took = append(took, d)
		r.Arrivals = append(r.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1})
		r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(i + 1), Assigned: at, Sent: at,
			Done: at.Add(d), Status: 200})
		r.Attempts = append(r.Attempts, record.Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1})
		r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1), Attempts: 1})
	}
	return r, took
}

// The parts of a large summary are computed at the same time; nothing of it depends on which is done first.
func TestPartsOfALargeSummary(t *testing.T) {
	r, took := many(30_000)
	first, again := report.Summarize(r), report.Summarize(r)
	if !reflect.DeepEqual(first, again) {
		t.Error("two summaries of one run differ")
	}
	slices.Sort(took)
	f := first.Functions[r.Functions[0].Name]
	class := f.Latency.Warm
	if class.N != len(took) || *class.P50 != figure.Milliseconds(took[stats.Rank(0.5, len(took))-1]) ||
		*class.Max != figure.Milliseconds(took[len(took)-1]) {
		t.Errorf("%+v", class)
	}
	if first.Events.Done != len(took) || f.Attempts != len(took) || f.WarmUp.Points == nil || len(f.Routes) > 0 &&
		!reflect.DeepEqual(slices.Collect(maps.Values(f.Routes))[0].Warm, class) {
		t.Errorf("%+v", f)
	}
}

// BenchmarkSummarize computes the summary of a million invocations.
func BenchmarkSummarize(b *testing.B) {
	r, _ := many(1_000_000)
	for b.Loop() {
		report.Summarize(r)
	}
}

// A chain lasts from the first event's due to the end of its last step, faults
// are counted once for each event, and second deliveries are compared with the
// first.
func TestChainsFaultsAndSecondDeliveries(t *testing.T) {
	ms := func(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }
	r := &record.Run{Idempotence: true, Finished: true, Busy: math.NaN(), Functions: []record.Function{{Name: "f"}},
		Payloads: []record.Payload{{Set: "s", N: 1, Label: "a scan"}},
		Sources: []record.Source{{Name: "cargo", Kind: "storage", To: []int{0}}, {Name: "scans", Kind: "queue",
			To: []int{0}}}, Length: ms(1000)}
	add := func(source int, due, ended int, from int64, origin engine.Origin, kinds uint8, status, reply int32,
		o engine.Outcome) int64 {
		id := int64(len(r.Arrivals))
		r.Arrivals = append(r.Arrivals, record.Arrival{Due: ms(due), Arrived: ms(due), From: from, Origin: origin,
			Source: int32(source), Fault: kinds})
		inv := uint64(len(r.Invocations) + 1)
		r.Invocations = append(r.Invocations, record.Invocation{ID: inv, Assigned: ms(due), Sent: ms(due),
			Done:   ms(ended),
			Source: int32(source), Status: status, Reply: reply, Batch: 1})
		r.Attempts = append(r.Attempts, record.Attempt{Event: id, Invocation: inv, Source: int32(source), N: 1})
		r.Deliveries = append(r.Deliveries, record.Delivery{Event: id, Invocation: inv, Ended: ms(ended),
			Source: int32(source), Attempts: 1, Outcome: o})
		return id
	}
	first := add(0, 100, 150, -1, engine.FromOutside, 0, 200, 1, engine.Done)
	second := add(1, 150, 230, first, engine.FromReply, 0, 200, 2, engine.Done)
	add(1, 230, 260, second, engine.FromReply, 0, 200, 2, engine.Failed)
	add(0, 300, 310, -1, engine.FromOutside, 0, 200, 1, engine.Done) // no chain
	twice := add(1, 400, 410, -1, engine.FromOutside, fault.Duplicated|fault.Delayed, 200, 3, engine.Done)
	add(1, 420, 430, twice, engine.FromFault, fault.Duplicated|fault.Delayed, 200, 4, engine.Done)
	same := add(1, 500, 510, -1, engine.FromOutside, fault.Redelivered, 200, 3, engine.Done)
	add(1, 520, 530, same, engine.FromFault, fault.Redelivered, 200, 3, engine.Done)
	lost := add(1, 600, 610, -1, engine.FromOutside, fault.AckLost, 200, 5, engine.Done)
	r.Invocations = append(r.Invocations, record.Invocation{ID: 99, Assigned: ms(590), Done: ms(595), Source: 1,
		Status: 409,
		Reply:  6, Batch: 1})
	r.Attempts = append(r.Attempts, record.Attempt{Event: lost, Invocation: 99, Source: 1, N: 1,
		Result: engine.AckLost})
	for i := range 3 { // open at the end; of two the source never heard that they went well
		add(1, 700, 710, -1, engine.FromOutside, 0, 200, 5, engine.Abandoned)
		if i < 2 {
			r.Attempts[len(r.Attempts)-1].Result = engine.AckLost
		}
	}
	r.Budgets = []string{"chain cargo max < 100ms", "chain cargo p50 < 1s"}
	s := report.Summarize(r)
	if c := s.Chains["cargo"]; len(s.Chains) != 1 || c.Latency.N != 1 || *c.Latency.Max != 160 || c.Steps != 3 ||
		c.Broken != 1 {
		t.Errorf("chains %+v", s.Chains)
	}
	if s.Budgets[0].Held || *s.Budgets[0].Measured != 160 || !strings.Contains(s.Budgets[1].Why, "too few samples: 1") {
		t.Errorf("budgets %+v", s.Budgets)
	}
	if f := s.Faults; f["duplicated"] != 1 || f["delayed"] != 1 || f["redelivered late"] != 1 ||
		f["acknowledgement lost"] != 3 || len(f) != 4 {
		t.Errorf("faults %v", f)
	}
	if x := s.Idempotence; x.Twice != 3 || x.Differed != 2 || x.Which[0] != "event 4 (a scan): a different reply" ||
		x.Which[1] != "event 8 (a scan): status 409, then 200" {
		t.Errorf("second deliveries %+v", x)
	}
	text := strings.Join(report.NewPage(r).Sentences(), "\n")
	for _, want := range []string{"cargo started 1 chain of up to 3 steps: at most 160 ms",
		"1 chain had a failing step (at scans)", "duplicated 1, delayed 1", "2 of 3 second deliveries",
		"3 deliveries were open when the run ended; of 2 the acknowledgement was lost"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
}
