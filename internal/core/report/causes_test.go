package report_test

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/report"
)

func TestTheSentencesNameTheOneCause(t *testing.T) {
	few := func(change func(*recordtest.Scene)) recordtest.Scene { // far apart: each finds nothing warm
		s := recordtest.Calm()
		s.Gap, s.N = 1500*time.Millisecond, 40
		change(&s)
		return s
	}
	late := func() func(int) time.Duration { return func(int) time.Duration { return 400 * time.Millisecond } }
	own := func(text string) func(*record.Run) {
		return func(r *record.Run) {
			r.Timings = map[int32]string{1: text}
			for i := range r.Invocations {
				r.Invocations[i].Timing = 1
			}
		}
	}
	causes := []struct {
		Name, Want string
		Scene      recordtest.Scene
	}{
		{"its own code boots slowly", "of a cold call is the function's own start-up",
			few(func(s *recordtest.Scene) { s.Start, s.Boot = 900*time.Millisecond, 880*time.Millisecond })},
		{"the command takes long to run at all", "passes before the function's own code runs",
			few(func(s *recordtest.Scene) { s.Start, s.Boot = 900*time.Millisecond, 10*time.Millisecond })},
		{"it is ready too early", "is the first invocation itself",
			few(func(s *recordtest.Scene) { s.Service = late() })},
		{"it says what it does then", "of that is “tables”", few(func(s *recordtest.Scene) {
			s.Service = func(n int) time.Duration { return 400 * time.Millisecond }
			s.After = own("tables;dur=390, x;dur=2")
		})},
		{"the limit", "as its limit of 2 allows",
			recordtest.CalmWith(func(s *recordtest.Scene) {
				s.Limits.Max, s.Gap = 2,
					3*time.Millisecond
				s.Service = func(int) time.Duration { return 6 * time.Millisecond }
			})},
		{"the project total", "the project was at its limit of 2",
			recordtest.CalmWith(func(s *recordtest.Scene) {
				s.All, s.Gap = 2, 3*time.Millisecond
				s.Service = func(int) time.Duration { return 6 * time.Millisecond }
			})},
		{"the limit rejects", "requests rejected; no instance was free",
			recordtest.CalmWith(func(s *recordtest.Scene) { s.Limits.Max, s.Source.Wait, s.Burst = 1, 0, 3 })},
		{"it warms up", "is warm from its ", recordtest.CalmWith(func(s *recordtest.Scene) {
			s.Limits.IdleAfter, s.Burst, s.Start, s.Boot = time.Second, 8, 13*time.Millisecond, 6*time.Millisecond
			s.Service = func(n int) time.Duration { return 5*time.Millisecond + 6*time.Millisecond/time.Duration(n) }
		})},
		{"batches are filled", "of a batch to fill", recordtest.CalmWith(func(s *recordtest.Scene) {
			s.Source.Kind, s.Source.BatchMax, s.Source.BatchWait, s.Source.Lease, s.Source.Attempts = plan.Queue, 100,
				200*time.Millisecond, 10*time.Second, 3
		})},
		{"more comes than is done", " fell behind: ", recordtest.CalmWith(func(s *recordtest.Scene) {
			s.Limits.Max, s.Gap, s.Source.Kind, s.Source.BatchMax, s.Source.Lease, s.Source.Attempts = 1,
				3*time.Millisecond,
				plan.Queue, 1, 10*time.Second, 3
		})},
		{"it takes too long", "longer than its timeout", recordtest.CalmWith(func(s *recordtest.Scene) {
			all := 0
			s.Service = func(int) time.Duration {
				all++
				return map[bool]time.Duration{true: 3 * time.Second,
					false: time.Millisecond}[all == 50]
			}
		})},
		{"it crashes", "crashed 1 time", recordtest.CalmWith(
			func(s *recordtest.Scene) { s.After = func(r *record.Run) { r.Instances[0].Reason = engine.Crashed } })},
		{"it runs out of memory", "ran out of memory: 1 instance was killed by the system at 64 MiB",
			recordtest.CalmWith(func(s *recordtest.Scene) {
				s.After = func(r *record.Run) {
					r.Functions[0].Memory = 64 << 20
					r.Instances[0].Reason = engine.OutOfMemory
				}
			})},
		{"it nearly does", "came close to its memory: 30 of 32 MiB",
			recordtest.CalmWith(func(s *recordtest.Scene) {
				s.After = func(
					r *record.Run) {
					r.Functions[0].Memory = 32 << 20
				}
			})},
		{"a budget", "The budget “function f warm p50 < 1ms” was missed: measured 5",
			recordtest.CalmWith(func(s *recordtest.Scene) {
				s.After = func(r *record.Run) { r.Budgets = []string{"function f warm p50 < 1ms"} }
			})},
		{"one route", "/slow is slower than its other routes", recordtest.CalmWith(func(s *recordtest.Scene) {
			s.Service = func(n int) time.Duration { return time.Millisecond + time.Duration(n%2)*20*time.Millisecond }
			s.After = func(r *record.Run) {
				r.Sources[0].Routes, r.Sources[0].To = []string{"/", "/slow"}, []int{0, 0}
				for i := range r.Deliveries {
					if d := &r.Deliveries[i]; d.Ended.Sub(r.Arrivals[d.Event].Due) > 10*time.Millisecond {
						d.Wire = 1
					}
				}
			}
		})},
	}
	for _, c := range causes {
		t.Run(c.Name, func(t *testing.T) {
			r := c.Scene.Run()
			text := strings.Join(report.NewPage(r).Sentences(), "\n")
			if !strings.Contains(text, c.Want) {
				t.Errorf("want %q in\n%s", c.Want, text)
			}
			for _, other := range causes { // and no other cause
				if other.Name != c.Name && strings.Contains(text, other.Want) &&
					!(c.Name == "it says what it does then" && other.Name == "it is ready too early") {
					t.Errorf("it also says %q in\n%s", other.Want, text)
				}
			}
		})
	}
}

// What the machine and the driver spoiled is said, next to what it spoils.
func TestWarningsStandNextToWhatTheySpoil(t *testing.T) {
	trips := func(d time.Duration) []time.Duration { return slices.Repeat([]time.Duration{d}, 100) }
	latency := func(b *measure.Beside) []string { return b.Latency }
	start := func(b *measure.Beside) []string { return b.Start }
	rates := func(b *measure.Beside) []string { return b.Rates }
	memory := func(b *measure.Beside) []string { return b.Memory }
	for want, c := range map[string]struct {
		On     func(*measure.Beside) []string
		Change func(*record.Run)
	}{
		"taken up to 50.0 ms late": {latency, func(r *record.Run) {
			for i := range r.Arrivals {
				r.Arrivals[i].Arrived += clock.Time(50 * time.Millisecond)
			}
		}},
		"processors were 95 % busy": {start, func(r *record.Run) { r.Busy = 0.95 }},
		"gave 7 % of its":           {start, func(r *record.Run) { r.Stolen = 0.07 }},
		"a bare round trip": {latency, func(r *record.Run) {
			r.Self = &record.SelfCheck{Before: trips(time.Millisecond / 10),
				During: trips(9 * time.Millisecond)}
		}},
		"timers fire up to 6.00 ms late": {rates,
			func(r *record.Run) { r.Self = &record.SelfCheck{Timer: trips(6 * time.Millisecond)} }},
		"wall clock jumped by 1 h": {rates, func(r *record.Run) { r.Self = &record.SelfCheck{Jump: time.Hour} }},
		"are not enforced": {memory,
			func(r *record.Run) { r.Functions[0].Enforced = "not enforced: no control groups" }},
		"closed loop": {rates, func(r *record.Run) { r.Sources[0].Closed = true }},
	} {
		r := recordtest.Calm().Run()
		if s := report.Summarize(r); len(s.Warnings) > 0 {
			t.Fatalf("a calm run has warnings %v", s.Warnings)
		}
		c.Change(r)
		s := report.Summarize(r)
		if beside := strings.Join(c.On(&s.Beside), "\n"); len(s.Warnings) == 0 || !strings.Contains(s.Warnings[0],
			want) || !strings.Contains(beside, want) {
			t.Errorf("want %q in %q, %v", want, s.Warnings, s.Beside)
		}
	}
}

// The timeline adds up to the run, and what is behind in it is what has come and not ended.
func TestTheTimelineAddsUp(t *testing.T) {
	r := recordtest.CalmWith(func(s *recordtest.Scene) {
		s.Gap, s.Limits.Max, s.Source.Wait = time.Millisecond, 3, 20*time.Millisecond
	}).Run()
	page := report.NewPage(r)
	sum := func(all []int) (n int) {
		for _, x := range all {
			n += x
		}
		return n
	}
	f, s := page.Time.Functions[0], page.Time.Sources[0]
	c := page.Summary.Sources["s"]
	if sum(s.Arrived) != c.Arrived || sum(s.Done) != c.Done || sum(s.Rejected) != c.Rejected || c.Rejected == 0 ||
		sum(f.Done) != c.Done || s.Behind[len(s.Behind)-1] != 0 {
		t.Errorf("arrived %d, done %d %d, rejected %d, behind at the end %d; the summary has %+v", sum(s.Arrived),
			sum(s.Done), sum(f.Done), sum(s.Rejected), s.Behind[len(s.Behind)-1], c)
	}
	if most := slices.Max(f.Instances); most != page.Summary.Functions["f"].Instances.Peak ||
		most != page.Summary.Load.Most {
		t.Errorf("at most %d instances; the summary has %d and %d", most, page.Summary.Functions["f"].Instances.Peak,
			page.Summary.Load.Most)
	}
	longest := time.Duration(0)
	for k := range f.Max {
		longest = max(longest, f.Max[k])
		if f.P50[k] > f.P95[k] || f.P95[k] > f.Max[k] {
			t.Fatalf("step %d: %v, %v, %v", k, f.P50[k], f.P95[k], f.Max[k])
		}
	}
	if l := page.Summary.Functions["f"].Latency; figure.Milliseconds(longest) != max(*l.Warm.Max, *l.Cold.Max) {
		t.Errorf("the longest in the timeline is %v", longest)
	}
	// offered at a distance of 1 ms, and at rest after the idle time
	if o := *page.Summary.Load.Offered; math.Abs(o-1000) > 5 {
		t.Errorf("offered %v a second", o)
	}
	if rest := page.Summary.Load.Rest; rest == nil || *rest < 0.3 || *rest > 0.4 {
		t.Errorf("at rest after %v s, with an idle time of 0.3", rest)
	}
}
