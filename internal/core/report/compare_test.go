package report

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/rng"
)

// lives returns two runs of starts and warm answers, of which the second takes so many
// times as long.
func lives(seed uint64, n int, times float64) (a, b *measure.Populations) {
	r := rng.New(seed, 4)
	make := func(times float64) *measure.Populations {
		p := &measure.Populations{}
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
	turns, load := &measure.Side{Run: &record.Run{ColdStarts: 1, Functions: make([]record.Function, 1)}},
		&measure.Side{Run: &record.Run{Functions: make([]record.Function, 1)}}
	judged := func(side *measure.Side, n int, times float64) map[string]measure.Contrast {
		a, b := lives(uint64(n), n, times)
		out := map[string]measure.Contrast{}
		for _, c := range measure.Contrasts([]*measure.Populations{a, b}, []measure.Side{*side, *side})[0] {
			out[c.What] = c
			if c.More == 0 && !c.Beyond && c.N[0] > 0 && c.Least == nil {
				t.Errorf("%s of %d: %+v", c.What, n, c)
			}
		}
		return out
	}
	if c := judged(turns, 20, 9)["cold"]; !c.Beyond || !strings.Contains(ContrastText(&c), "× slower") || c.Lo == nil ||
		*c.Lo > 9 || *c.Hi < 8.5 {
		t.Errorf("20 cold starts of nine times as long: %q, %+v", ContrastText(&c), c)
	}
	if c := judged(turns, 20, 1)["start"]; c.Beyond || !strings.HasPrefix(ContrastText(&c),
		"no difference detected (one above ") || *c.Least > 1 {
		t.Errorf("20 starts that are alike: %q", ContrastText(&c))
	}
	// of twelve deliveries under load no difference could be found, and that is said
	if c := judged(load, 12, 10)["cold"]; c.Beyond || c.More < 6 || !strings.HasPrefix(ContrastText(&c),
		"too few samples (at least ") || strings.Contains(ContrastMark(&c), "no difference") {
		t.Errorf("12 cold ones under load: %q", ContrastText(&c))
	}
	if c := judged(turns, 4, 9)["start"]; c.More != 2 || ContrastText(&c) != "too few samples (at least 2 more on "+
		"each side)" {
		t.Errorf("4 starts: %q", ContrastText(&c))
	}
	if c := judged(turns, 30, 0.1)["warm"]; !c.Beyond || !strings.HasSuffix(ContrastText(&c), "× faster") ||
		strings.HasPrefix(RatioBetween(&c), "0.") {
		t.Errorf("a tenth: %q, %s", ContrastText(&c), RatioBetween(&c))
	}
	// what is measured by different meters is not compared
	other := &measure.Side{Run: &record.Run{ColdStarts: 1,
		Functions: []record.Function{{Meter: "the session's processes"}}}}
	for _, s := range []*measure.Side{turns, other} {
		s.Run.Instances = nil
		for i := range 20 {
			s.Run.Instances = append(s.Run.Instances, record.Instance{Peak: int64(30+i) << 20})
		}
	}
	a, b := lives(1, 20, 1)
	all := measure.Contrasts([]*measure.Populations{a, b}, []measure.Side{*turns, *other})[0]
	if c := all[len(all)-1]; c.What != "peak memory" || c.Why == "" || ContrastMark(&c) != "no verdict" {
		t.Errorf("memory by two meters: %+v", c)
	}
}

// Sides that are not quite comparable are said to be so, and how.
func TestWhatIsNotComparableIsSaid(t *testing.T) {
	run := func(id, drill string, cold int, machine string) measure.Side {
		return measure.Side{Label: id, Run: &record.Run{ID: id, Drill: drill, ColdStarts: cold, Machine: machine,
			Functions: []record.Function{{Name: "f"}}}}
	}
	for want, other := range map[string]measure.Side{
		"run a started functions cold and sent single events in turns, run b is a drill under load": run("b", "evening",
			0, "m"),
		"different drills, variants of f and cold starts": run("b", "cold starts", 9, "m"),
		"different machines: m; n":                        run("b", "variants of f", 9, "n"),
		"different runs, one after the other":             run("b", "variants of f", 9, "m"),
	} {
		of := run("a", "variants of f", 9, "m")
		if got := strings.Join(Compare("f", []measure.Side{of, other}, nil).Warnings, "\n"); !strings.Contains(got,
			want) {
			t.Errorf("%q is not in %q", want, got)
		}
		if got := strings.Join(Compare("f", []measure.Side{of, of}, nil).Warnings, "\n"); strings.Contains(got,
			"different") {
			t.Errorf("of one run: %q", got)
		}
	}
}

// What a budget is about is measured in its own unit; where too few samples carry it,
// or the function was never asked, it is open and says what it needs.
func TestVerdicts(t *testing.T) {
	r := recordtest.Fixture()
	r.Finished, r.Functions = true, append(r.Functions, record.Function{Name: "tides"})
	r.Instances[0].Peak = 30 << 20
	r.Deliveries[3].Ended = recordtest.At(1000)
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
		if BudgetState(&v) != want.state || !strings.Contains(BudgetSays(&v), want.says) {
			t.Errorf("%s: %s, %s; want %s, %s", text, BudgetState(&v), BudgetSays(&v), want.state, want.says)
		}
	}
}

// A contrast without a verdict is not called equal where its own interval leaves 1 out.
func TestTheMarkAgreesWithItsInterval(t *testing.T) {
	for want, of := range map[string][2]float64{
		"no difference  (0.98 – 1.48)": {0.98, 1.48},
		"may be chance  (1.02 – 1.50)": {1.02, 1.5},
		"may be chance  (0.60 – 0.97)": {0.6, 0.97},
	} {
		c := measure.Contrast{N: [2]int{9, 9}, Lo: &of[0], Hi: &of[1]}
		if mark := ContrastMark(&c); mark != want {
			t.Errorf("%v is marked %q, want %q", of, mark, want)
		}
	}
}
