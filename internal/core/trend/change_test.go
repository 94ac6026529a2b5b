package trend

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
)

// level returns values of identical code: how they scatter, how much neighbours resemble each other.
func level(n int, seed uint64, rho float64, heavy bool) []float64 {
	random, last, out := rng.New(seed, 1), 0.0, make([]float64, n)
	for i := range out {
		noise := 0.0
		for range 12 {
			noise += random.Unit() - 0.5
		}
		if heavy && random.Chance(1, 10) {
			noise *= 8
		}
		last = rho*last + math.Sqrt(1-rho*rho)*noise
		out[i] = 40 * math.Exp(0.1*last)
	}
	return out
}

// A hundred commits of identical code are said to have changed in at most 5 % of all series, looked at after each
// commit or once, whatever the noise is like.
func TestFalseAlarms(t *testing.T) {
	series := 150
	if testing.Short() {
		series = 15
	}
	for _, c := range []struct {
		name  string
		rho   float64
		heavy bool
	}{{"independent", 0, false}, {"rare outliers", 0, true}, {"neighbours alike", 0.3, false},
		{"the machine drifts", 0.6, false}} {
		once, ever := 0, 0
		for seed := range series {
			values := level(100, uint64(seed), c.rho, c.heavy)
			if len(changePoints(values, noise)) > 0 {
				once++
			}
			for n := 10; n <= 100; n += 10 {
				if len(changePoints(values[:n], noise)) > 0 {
					ever++
					break
				}
			}
		}
		t.Logf("%s: %.1f %% once, %.1f %% of those looked at ten times", c.name, 100*float64(once)/float64(series),
			100*float64(ever)/float64(series))
		// three standard deviations above 5 %
		if most := 0.05 + 3*math.Sqrt(0.05*0.95/float64(series)); float64(once) > most*float64(series) {
			t.Errorf("%s: %d of %d series without a change were said to have one", c.name, once, series)
		}
	}
}

func TestChangesAreFound(t *testing.T) {
	if testing.Short() {
		t.Skip("of shares among many series")
	}
	for _, c := range []struct {
		name string
		at   []int
		by   []float64
	}{{"one", []int{60}, []float64{1.2}}, {"two", []int{30, 70}, []float64{1.3, 0.8}}, {"late", []int{90},
		[]float64{1.4}}} {
		exact, near := 0, 0
		for seed := range 40 {
			values := level(100, uint64(seed), 0, true)
			for k, at := range c.at {
				for i := at; i < len(values); i++ {
					values[i] *= c.by[k]
				}
			}
			got := changePoints(values, noise)
			if slices.Equal(got, c.at) {
				exact++
			}
			if len(got) == len(c.at) && !slices.ContainsFunc(c.at, func(at int) bool {
				return !slices.ContainsFunc(got, func(g int) bool { return max(g-at, at-g) <= 3 })
			}) {
				near++
			}
		}
		t.Logf("%s: %d of 40 exact, %d within three commits", c.name, exact, near)
		if near < 20 {
			t.Errorf("%s: only %d of 40 were found", c.name, near)
		}
	}
	missed := 0
	for seed := range 40 { // a start twice as long, among few commits
		values := level(30, uint64(seed), 0.2, false)
		for i := 18; i < 30; i++ {
			values[i] *= 2.2
		}
		if got := changePoints(values, surest); !slices.Contains(got, 18) {
			missed++
		}
	}
	t.Logf("twice as long: %d of 40 missed", missed)
	if missed > 2 {
		t.Errorf("twice as long: %d of 40 missed", missed)
	}
	steps := []float64{10, 10, 10, 10, 10, 10, 10, 10, 12, 12, 12, 12, 12, 12, 12, 12}
	if got := changePoints(steps, noise); !slices.Equal(got, []int{8}) {
		t.Errorf("without noise: %v", got)
	}
	for _, none := range [][]float64{nil, {1}, slices.Repeat([]float64{7}, 50), slices.Repeat([]float64{0}, 20)} {
		if got := changePoints(none, noise); got != nil {
			t.Errorf("%v: %v", none, got)
		}
	}
}

func BenchmarkChangePoints(b *testing.B) {
	values := level(100, 1, 0.3, true)
	for b.Loop() {
		changePoints(values, noise)
	}
}

// A slower commit is named; runs of one commit are one point, other machines and branches are left out.
func TestTrendNamesTheCommit(t *testing.T) {
	var runs []Run
	began := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	add := func(commit, branch, machine string, warm float64) {
		began = began.Add(time.Hour)
		runs = append(runs, Run{ID: fmt.Sprint("r", len(runs)), Commit: commit, Branch: branch, Machine: machine,
			Began: began, Main: &report.Headline{Functions: []report.HeadlineOf{{Name: "quote", Warm: &warm}}}})
	}
	noise := level(60, 9, 0, false)
	for i := range 30 {
		slower := 1.0
		if i >= 18 {
			slower = 1.5
		}
		for k := range 2 {
			add(fmt.Sprintf("c%02d", i), "main", "here", noise[2*i+k]*slower)
		}
		add(fmt.Sprintf("c%02d", i), "main", "there", 1)
		add("f1", "fare", "here", 900)
	}
	runs = append(runs, Run{ID: "cut", Branch: "main", Machine: "here"})
	slices.Reverse(runs)
	got := Of("evening", "main", "here", runs)
	if len(got.Series) != 1 || got.Runs != 60 || len(got.Series[0].Points) != 30 || got.Series[0].Points[3].Runs != 2 {
		t.Fatalf("%+v", got)
	}
	s := &got.Series[0]
	var stretches []any
	s.Levels(got.Commits, func(from, to int, level float64) { stretches = append(stretches, from, to, level) })
	levels := fmt.Sprint(stretches)
	if len(s.Changes) != 1 || s.Changes[0].Commit != "c18" || levels != fmt.Sprint("[0 18 ", s.Changes[0].Before,
		" 18 30 ", s.Changes[0].After, "]") || s.Latest() != s.Changes[0].After ||
		!strings.HasPrefix(got.Sentences[0], "quote: warm p50 rose by ") ||
		!strings.Contains(got.Sentences[0], "with commit c18 (") {
		t.Errorf("%+v %q", s.Changes, got.Sentences)
	}
	for machine, want := range map[string]string{"there": "no change found in 1 figure over 30 commits",
		"elsewhere": "too few commits to find a change: 0, and at least 10 are needed"} {
		if got := Of("evening", "main", machine, runs); got.Sentences[0] != want {
			t.Errorf("%s: %q", machine, got.Sentences)
		}
	}
}
