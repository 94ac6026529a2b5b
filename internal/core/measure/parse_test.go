package measure

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/rng"
	"nightdrill/internal/core/stats"
)

// Whatever is written, a budget is read or refused by name; one that is read can be
// judged on any run, and says what happened to it.
func FuzzParseBudget(f *testing.F) {
	for _, text := range []string{"function quote cold p95 < 900ms", "source fares rejected <= 2%",
		"project cost_per_million < 0.6", "chain cargo max < 1s", "function quote memory <= 1GiB",
		"project done >= 3/s", "function quote p99.99 != 1ns", "project all wait p50 < 1s"} {
		f.Add(text)
	}
	r := fixture()
	f.Fuzz(func(t *testing.T, text string) {
		b, err := ParseBudget(text)
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
		v := Summarize(r).Budgets[0]
		if v.Says() == "" || v.Held && v.Few || v.Held && v.Measured == nil {
			t.Fatalf("%q: %+v", text, v)
		}
	})
}

// Whatever is written, a filter is read or refused; one that is read is written so that
// it is read again as the same, and takes a part of the run and nothing else.
func FuzzParseFilter(f *testing.F) {
	for _, text := range []string{"function=quote class=warm", "status=4xx from=1s to=2s", "nth=2-9 longer=5ms",
		"outcome=dead_lettered source=scans", "variant=- route=GET+/x"} {
		f.Add(text)
	}
	r := fixture()
	f.Fuzz(func(t *testing.T, text string) {
		x, err := ParseFilter(text)
		if err != nil {
			return
		}
		again, err := ParseFilter(x.String())
		if err != nil || again != x {
			t.Fatalf("%q is written as %q: %+v, %v", text, x.String(), again, err)
		}
		part := r.Filter(x)
		if len(part.Deliveries) > len(r.Deliveries) || len(part.Invocations) > len(r.Invocations) {
			t.Fatalf("%q took more than there is", text)
		}
		NewPage(part)
	})
}

// history is a run that nothing has planned: any outcome, class, status and time.
func history(seed uint64) *Run {
	r := rng.New(seed, 5)
	n := 40 + r.Below(200)
	run := &Run{ID: "h", Finished: r.Chance(1, 2), Length: ms(20_000), Busy: math.NaN(), Concurrency: 8,
		Functions: []Function{{Name: "f", Max: 3, PerInstance: 2, Memory: 64 << 20},
			{Name: "f@b", Max: 2, PerInstance: 1}, {Name: "g", Max: 1, PerInstance: 1, OneShot: r.Chance(1, 3)}},
		Sources: []Source{{Name: "a", Kind: "http", Routes: []string{"/", "/x"}, To: []int{0, 1}},
			{Name: "b", Kind: "queue", To: []int{2}}, {Name: "c", Kind: "stream", To: []int{0}}},
		Payloads: []Payload{{Set: "s", N: 1}, {Set: "s", N: 2}}}
	for in := range 12 {
		x := Instance{ID: int32(in), Function: int32(r.Below(3)), Number: int32(in + 1), Spawned: ms(r.Below(5000)),
			Cause: engine.Cause(r.Below(int(engine.Causes)))}
		if r.Chance(4, 5) {
			x.Ready = x.Spawned + ms(1+r.Below(400))
			x.Exec = x.Spawned + ms(r.Below(2))
		}
		if r.Chance(3, 4) {
			x.Stopped, x.Reason = max(x.Ready, x.Spawned)+ms(r.Below(9000)),
				engine.Reason(r.Below(int(engine.OutOfMemory)+1))
		}
		x.Peak, x.CPU = int64(r.Below(90))<<20, time.Duration(r.Below(1e9))
		run.Instances = append(run.Instances, x)
	}
	for i := range n {
		due := ms(r.Below(12_000))
		a := Arrival{Due: due, Arrived: due + ms(r.Below(30)), From: -1, Source: int32(r.Below(3)),
			Payload: int32(r.Below(2))}
		if i > 0 && r.Chance(1, 6) {
			a.From, a.Origin = int64(r.Below(i)), engine.Origin(1+r.Below(3))
		}
		run.Arrivals = append(run.Arrivals, a)
		for wire := range run.Sources[a.Source].To {
			if a.Source == 0 && wire != i%2 || r.Chance(1, 12) {
				continue // one route; and of a run that was cut off, some have no outcome
			}
			d := Delivery{Event: int64(i), Source: a.Source, Wire: int32(wire),
				Outcome: engine.Outcome(r.Below(int(engine.Outcomes))), Ended: a.Arrived + ms(r.Below(3000)),
				Cause: engine.Cause(r.Below(int(engine.Causes)))}
			if d.Outcome == engine.Unmatched {
				d.Wire = -1
			}
			for k := int32(1); d.Wire >= 0 && d.Outcome != engine.Rejected && int(k) <= 1+r.Below(3); k++ {
				v := Invocation{ID: uint64(len(run.Invocations) + 1), Function: int32(run.Sources[a.Source].To[wire]),
					Instance: int32(r.Below(12)), Source: a.Source, Wire: int32(wire), Batch: 1,
					Assigned: a.Arrived + ms(r.Below(500)), Class: engine.Class(r.Below(3)),
					Result: engine.Result(r.Below(int(engine.Results))),
					Status: int32([]int{0, 200, 200, 404, 500}[r.Below(5)]), Unexpected: r.Chance(1, 9)}
				v.Sent = v.Assigned + ms(r.Below(3))
				v.Done = v.Sent + ms(r.Below(900))
				run.Invocations = append(run.Invocations, v)
				run.Attempts = append(run.Attempts, Attempt{Event: int64(i), Invocation: v.ID, Source: a.Source,
					Wire: int32(wire), N: k, Result: v.Result})
				d.Invocation, d.Attempts = v.ID, k
			}
			run.Deliveries = append(run.Deliveries, d)
		}
	}
	slices.SortFunc(run.Invocations, func(a, b Invocation) int { return int(min(max(a.Done-b.Done, -1), 1)) })
	return run
}

// Over many histories, whatever functions did: everything that is counted in several
// places is counted alike, percentiles rise, intervals hold their value, and filters cut
// the run into parts without a rest.
func TestFiguresAgreeOverManyHistories(t *testing.T) {
	var seen struct{ cold, rejected, chains, open, routes, intervals int }
	for seed := range uint64(400) {
		r := history(seed)
		p := NewPage(r)
		s := p.Summary
		fail := func(format string, args ...any) { t.Errorf("seed %d: "+format, append([]any{seed}, args...)...) }
		var all Counts
		for _, c := range s.Sources {
			all.Arrived += c.Arrived
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
			for _, c := range []*Figures{&f.Latency.Cold, &f.Latency.First, &f.Latency.Warm, &f.Latency.Retried,
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
					seen.intervals++
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
				seen.routes++
			}
			if len(f.Routes) > 0 && name == "f@b" && routes != f.Latency.N() {
				fail("%s: its one route has %d answers, the function %d", name, routes, f.Latency.N())
			}
			seen.cold += f.Latency.Cold.N
		}
		if attempts != len(r.Attempts) || started != len(r.Instances) {
			fail("%d attempts and %d instances, the run has %d and %d", attempts, started, len(r.Attempts),
				len(r.Instances))
		}
		seen.rejected += s.Events.Rejected
		seen.chains += len(s.Chains)
		seen.open += s.Events.Abandoned
		events, calls := 0, 0
		for _, f := range []Filter{{Source: "a"}, {Source: "b"}, {Source: "c"}} {
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
		if c := Compare("f", []Side{{"f", r, 0}, {"b", r, 1}}, nil); len(c.Sides) != 2 || len(c.Rows()) == 0 {
			fail("the comparison is %+v", c)
		}
		if turns := TurnsOf(r, r); turns.Other != 0 {
			fail("against itself, %+v", turns)
		}
		if text := strings.Join(p.Sentences, "\n"); strings.Contains(text, "NaN") || strings.Contains(text, "%!") ||
			strings.Contains(text, "Inf") {
			fail("the sentences are\n%s", text)
		}
	}
	if seen.cold < 1000 || seen.rejected < 1000 || seen.chains < 100 || seen.open < 500 || seen.routes < 100 ||
		seen.intervals < 1000 {
		t.Errorf("too little was common in the histories: %+v", seen)
	}
}

// What is behind is what came and did not end; its age is that of the oldest.
func TestLagOverTime(t *testing.T) {
	r := &Run{Length: ms(1200), Busy: math.NaN(), Functions: []Function{{Name: "f"}},
		Sources: []Source{{Name: "s", Kind: "queue", To: []int{0}}}}
	for i, ended := range []int{50, 700, 900, 0} { // one comes every 100 ms; the last never ends
		r.Arrivals = append(r.Arrivals, Arrival{Due: ms(100 * i), Arrived: ms(100 * i), From: -1})
		if ended > 0 {
			r.Deliveries = append(r.Deliveries, Delivery{Event: int64(i), Ended: ms(ended)})
		}
	}
	s := NewPage(r).Time.Sources[0]
	step := NewPage(r).Time.Step
	for at, want := range map[int]struct {
		behind int
		lag    time.Duration
	}{95: {0, 0}, 195: {1, 100}, 495: {3, 400}, 795: {2, 600}, 1195: {1, 900}} {
		k := int(time.Duration(ms(at)) / step)
		if got := s.Lag[k]; s.Behind[k] != want.behind || got < want.lag*time.Millisecond-step ||
			got > want.lag*time.Millisecond+step {
			t.Errorf("at %d ms %d are behind, the oldest by %v; want %d, %d ms", at, s.Behind[k], got, want.behind,
				want.lag)
		}
	}
}

// Wilson's interval, against the table in Newcombe (1998).
func TestWilson(t *testing.T) {
	for _, c := range []struct{ k, n, lo, hi float64 }{{81, 263, 0.2553, 0.3662}, {15, 148, 0.0624, 0.1605},
		{0, 20, 0, 0.1611}, {1, 29, 0.0061, 0.1718}} {
		if lo, hi := wilson(c.k/c.n, c.n); math.Abs(lo-c.lo) > 1e-4 || math.Abs(hi-c.hi) > 1e-4 {
			t.Errorf("%v of %v lies between %.4f and %.4f, want %.4f and %.4f", c.k, c.n, lo, hi, c.lo, c.hi)
		}
	}
}
