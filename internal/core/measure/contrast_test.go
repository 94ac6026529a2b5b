package measure

import (
	"math"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/rng"
)

// lives returns two runs of starts and warm answers, of which the second takes so many
// times as long.
func lives(seed uint64, n int, times float64) (a, b *Populations) {
	r := rng.New(seed, 4)
	make := func(times float64) *Populations {
		p := &Populations{}
		for range n {
			p.Start.Add(time.Duration(times * float64(100*time.Millisecond+r.Exp(20*time.Millisecond))))
			p.Latency[engine.Cold].Add(time.Duration(times * float64(120*time.Millisecond+r.Exp(20*time.Millisecond))))
			last := r.Exp(2 * time.Millisecond)
			for range 20 { // what follows each other hangs together
				if r.Chance(1, 4) {
					last = r.Exp(2 * time.Millisecond)
				}
				p.Latency[engine.Warm].Add(time.Duration(times * float64(5*time.Millisecond+last)))
			}
		}
		return p
	}
	return make(1), make(times)
}

// A comparison says what differs, what does not and how large a difference would have
// been found, and of what there are too few samples to tell: never that nothing differs
// where nothing could have been found.
func TestWhatContrastsSay(t *testing.T) {
	turns, load := &Side{Run: &Run{ColdStarts: 1, Functions: make([]Function, 1)}},
		&Side{Run: &Run{Functions: make([]Function, 1)}}
	judged := func(side *Side, n int, times float64) map[string]Contrast {
		a, b := lives(uint64(n), n, times)
		out := map[string]Contrast{}
		for _, c := range Contrasts([]*Populations{a, b}, []Side{*side, *side})[0] {
			out[c.What] = c
			if c.More == 0 && !c.Beyond && c.N[0] > 0 && c.Least == nil {
				t.Errorf("%s of %d: %+v", c.What, n, c)
			}
		}
		return out
	}
	if c := judged(turns, 20, 9)["cold"]; !c.Beyond || !strings.Contains(c.Verdict(), "× slower") || c.Lo == nil ||
		*c.Lo > 9 || *c.Hi < 8.5 {
		t.Errorf("20 cold starts of nine times as long: %q, %+v", c.Verdict(), c)
	}
	if c := judged(turns, 20, 1)["start"]; c.Beyond || !strings.HasPrefix(c.Verdict(),
		"no difference detected (one above ") || *c.Least > 1 {
		t.Errorf("20 starts that are alike: %q", c.Verdict())
	}
	// of twelve deliveries under load no difference could be found, and that is said
	if c := judged(load, 12, 10)["cold"]; c.Beyond || c.More < 6 || !strings.HasPrefix(c.Verdict(),
		"too few samples (at least ") || strings.Contains(c.Mark(), "no difference") {
		t.Errorf("12 cold ones under load: %q", c.Verdict())
	}
	if c := judged(turns, 4, 9)["start"]; c.More != 2 || c.Verdict() != "too few samples (at least 2 more on "+
		"each side)" {
		t.Errorf("4 starts: %q", c.Verdict())
	}
	if c := judged(turns, 30, 0.1)["warm"]; !c.Beyond || !strings.HasSuffix(c.Verdict(), "× faster") ||
		strings.HasPrefix(c.Between(), "0.") {
		t.Errorf("a tenth: %q, %s", c.Verdict(), c.Between())
	}
	// what is measured by different meters is not compared
	other := &Side{Run: &Run{ColdStarts: 1, Functions: []Function{{Meter: "the session's processes"}}}}
	for _, s := range []*Side{turns, other} {
		s.Run.Instances = nil
		for i := range 20 {
			s.Run.Instances = append(s.Run.Instances, Instance{Peak: int64(30+i) << 20})
		}
	}
	a, b := lives(1, 20, 1)
	all := Contrasts([]*Populations{a, b}, []Side{*turns, *other})[0]
	if c := all[len(all)-1]; c.What != "peak memory" || c.Why == "" || c.Mark() != "no verdict" {
		t.Errorf("memory by two meters: %+v", c)
	}
}

// Sides that are not quite comparable are said to be so, and how.
func TestWhatIsNotComparableIsSaid(t *testing.T) {
	run := func(id, drill string, cold int, machine string) Side {
		return Side{id, &Run{ID: id, Drill: drill, ColdStarts: cold, Machine: machine,
			Functions: []Function{{Name: "f"}}}, 0}
	}
	for want, other := range map[string]Side{
		"run a started functions cold and sent single events in turns, run b is a drill under load": run("b", "evening",
			0, "m"),
		"different drills, variants of f and cold starts": run("b", "cold starts", 9, "m"),
		"different machines: m; n":                        run("b", "variants of f", 9, "n"),
		"different runs, one after the other":             run("b", "variants of f", 9, "m"),
	} {
		of := run("a", "variants of f", 9, "m")
		if got := strings.Join(Compare("f", []Side{of, other}, nil).Warnings, "\n"); !strings.Contains(got, want) {
			t.Errorf("%q is not in %q", want, got)
		}
		if got := strings.Join(Compare("f", []Side{of, of}, nil).Warnings, "\n"); strings.Contains(got, "different") {
			t.Errorf("of one run: %q", got)
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
			r := &Run{Functions: []Function{{Name: "f"}}, Instances: make([]Instance, 8)}
			rnd := rng.New(seed, 1)
			for in := range r.Instances {
				for n := 1; n <= 400; n++ {
					d := time.Duration(service(n)*1e6) + rnd.Exp(300*time.Microsecond)
					r.Invocations = append(r.Invocations, Invocation{ID: uint64(len(r.Invocations) + 1),
						Instance: int32(in), Sent: 1, Assigned: 1, Done: 1 + ms(0).Add(d)})
				}
			}
			w := Analyze(r).Summary.Functions["f"].WarmUp
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

// The steps of the warm-up cover every n once.
func TestStepsOfTheWarmUp(t *testing.T) {
	for step, from := 0, 1; step < 30; step++ {
		lo, hi := nthRange(step)
		if lo != from || hi < lo {
			t.Fatalf("step %d goes from %d to %d, want it to begin at %d", step, lo, hi, from)
		}
		from = hi + 1
	}
}

// Cost is the rates times what was billed: computed by hand.
func TestCostByHand(t *testing.T) {
	r := fixture()
	r.Functions[0].Memory = 512 << 20
	r.Rates = &plan.Rates{Currency: "EUR", GiBSecond: 2, Request: 0.5, RoundUp: 100 * time.Millisecond,
		Billed: []string{"start", "invocation"}}
	r.Instances[0].Peak, r.Instances[1].Peak = 1, 0
	// quote: a start of 100 ms and answers of 19 and 4 ms, each rounded up to 100: 0.3 s of 0.5 GiB
	s := Summarize(r)
	if c := s.Functions["quote"].Cost; c == nil || math.Abs(c.Memory-0.3) > 1e-9 || c.Requests != 1 ||
		math.Abs(c.Total-1.3) > 1e-9 || math.Abs(*c.PerMillion-650_000) > 1e-3 || !c.MemoryKnown {
		t.Errorf("quote cost %+v", c)
	}
	if c := s.Functions["boarding"].Cost; c.MemoryKnown || c.Memory != 0 || math.Abs(c.Seconds-(0.1+0.1+1)) > 1e-9 {
		t.Errorf("boarding, of which no memory is known, cost %+v", c)
	}
	r.Rates.Billed = []string{"idle"} // 101 ms to 4 s, less 23 ms of work, rounded up
	if c := Summarize(r).Functions["quote"].Cost; math.Abs(c.Seconds-3.9) > 1e-9 {
		t.Errorf("idle time %v s", c.Seconds)
	}
	if held := *s.Functions["quote"].Resources.Held; math.Abs(held-0.5*3.999) > 1e-9 {
		t.Errorf("held %v GiB·s", held)
	}
}

// What a budget is about is measured in its own unit; where too few samples carry it,
// or the function was never asked, it is open and says what it needs.
func TestVerdicts(t *testing.T) {
	r := fixture()
	r.Finished, r.Functions = true, append(r.Functions, Function{Name: "tides"})
	r.Instances[0].Peak = 30 << 20
	r.Deliveries[3].Ended = ms(1000)
	for text, want := range map[string]struct {
		state, says string
	}{
		"function quote all max < 150ms":     {"met", "measured 120 ms"},
		"function quote wait max <= 101ms":   {"met", "measured 101 ms"},
		"function quote memory < 20MiB":      {"missed", "measured 30 MiB"},
		"source fares rejected <= 25%":       {"met", "measured 25 %"},
		"source fares rejected < 25%":        {"missed", "measured 25 %"},
		"source fares arrived < 1/s":         {"met", "measured 0.8/s"},
		"project unexpected == 0":            {"met", "measured 0"},
		"source scans latency max > 1s":      {"met", "measured 1120 ms"},
		"function quote p99.9 < 1s":          {"too few samples", "2, and p99.9 needs 2995"},
		"function quote cold p50 < 1s":       {"too few samples", "1, and p50 needs 6"},
		"function tides cold max < 1s":       {"too few samples", "tides received no events"},
		"function tides crashes == 0":        {"too few samples", "tides received no events"},
		"function quote cold == 0":           {"missed", "measured 1"},
		"function quote warm <= 50%":         {"met", "measured 50 %"},
		"source scans retried == 1":          {"met", "measured 1"},
		"function boarding status 5xx < 1%":  {"missed", "measured 50 %"},
		"function quote status 404 == 0":     {"met", "measured 0"},
		"function boarding retried max < 2s": {"met", "measured 1120 ms"},
		"function boarding warm max < 2s":    {"too few samples", "0, and max needs 1"},
		"function tides attempts == 0":       {"met", "measured 0"},
		"chain fares p50 < 1s":               {"too few samples", "0, and p50 needs 6"},
		"function quote unexpected <= 1%":    {"met", "measured 0 %"},
		"function boarding rejected == 0.5%": {"missed", "measured 0 %"},
		"project cost < 1":                   {"missed", "the project file has no rates"},
	} {
		r.Budgets = []string{text}
		v := Summarize(r).Budgets[0]
		if v.State() != want.state || !strings.Contains(v.Says(), want.says) {
			t.Errorf("%s: %s, %s; want %s, %s", text, v.State(), v.Says(), want.state, want.says)
		}
	}
}

// A run is held against an earlier one: beyond the noise, and by more than is allowed.
func TestAgainstABaseline(t *testing.T) {
	run := func(id string, seed uint64, times float64, lost int) *Run {
		r := &Run{ID: id, Functions: []Function{{Name: "f"}}, Sources: []Source{{Name: "s", To: []int{0}}},
			Instances: make([]Instance, 1)}
		rnd := rng.New(seed, 1)
		for i := range 500 {
			at := ms(10 * i)
			d := time.Duration(times * float64(5*time.Millisecond+rnd.Exp(time.Millisecond)))
			r.Arrivals = append(r.Arrivals, Arrival{Due: at, Arrived: at, From: -1})
			r.Invocations = append(r.Invocations, Invocation{ID: uint64(i + 1), Assigned: at, Sent: at, Done: at.Add(d),
				Batch: 1})
			r.Deliveries = append(r.Deliveries, Delivery{Event: int64(i), Invocation: uint64(i + 1), Ended: at.Add(d),
				Outcome: map[bool]engine.Outcome{true: engine.Failed}[i%(500/lost) == 0]})
		}
		return r
	}
	base := run("base", 1, 1, 3)
	if all := Against(&Run{Functions: base.Functions}, base, 0.1); len(all) != 1 || !all[0].Few {
		t.Errorf("nothing to compare: %+v", all)
	}
	for _, c := range []struct {
		now  *Run
		held string
	}{{run("a", 2, 1, 3), "++"}, {run("b", 3, 1.08, 3), "++"}, {run("c", 4, 1.4, 3), "-+"},
		{run("d", 5, 0.5, 40), "+-"}} {
		held := ""
		for _, v := range Against(c.now, base, 0.10) {
			held += map[bool]string{true: "+", false: "-"}[v.Held]
		}
		if held != c.held {
			t.Errorf("run %s: %s, want %s: %+v", c.now.ID, held, c.held, Against(c.now, base, 0.10))
		}
	}
}

// What became of the events that are the same in two runs: those of one payload are
// distinguished by their turn.
func TestTurns(t *testing.T) {
	run := func(outcomes ...engine.Outcome) *Run {
		r := &Run{Sources: []Source{{Name: "s"}}, Payloads: []Payload{{Set: "x", N: 1}, {Set: "x", N: 2}}}
		for i, o := range outcomes {
			r.Arrivals = append(r.Arrivals, Arrival{From: -1, Payload: int32(i % 2)})
			r.Deliveries = append(r.Deliveries, Delivery{Event: int64(i), Outcome: o})
		}
		return r
	}
	turns := TurnsOf(run(engine.Done, engine.Rejected, engine.Done, engine.Done), run(engine.Done, engine.Done,
		engine.Failed))
	if turns.Same != 1 || turns.Other != 3 || turns.Between["rejected, now done"] != 1 ||
		turns.Between["done, now failed"] != 1 || turns.Between["done, now not sent"] != 1 {
		t.Errorf("%+v", turns)
	}
	if lines := strings.Join(turns.Lines(), "\n"); !strings.Contains(lines, "3 of 4 events had a different outcome") ||
		!strings.Contains(lines, "s: x#2: rejected, now done") {
		t.Error(lines)
	}
	if lines := TurnsOf(run(engine.Done), run(engine.Done)).Lines(); len(lines) != 1 ||
		lines[0] != "All 1 event had the same outcome." {
		t.Errorf("%q", lines)
	}
}
