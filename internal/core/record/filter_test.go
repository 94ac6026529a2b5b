package record_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/report"
)

func TestFiltersAreReadStrictly(t *testing.T) {
	for _, text := range []string{"", "function=quote@node class=warm", "source=fares status=4xx outcome=dead-lettered",
		"from=2s to=4.5s longer=150ms shorter=2s nth=2-10", "variant=- route=GET+/quote/{to} nth=1 status=none",
		"route=POST+/x?day=*,+content-type:+application/cloudevents%2Bjson%25"} {
		f, err := record.ParseFilter(text)
		if err != nil {
			t.Errorf("%q: %v", text, err)
		}
		if g, err := record.ParseFilter(f.String()); err != nil || g != f {
			t.Errorf("%q is written as %q and read as %+v, %v", text, f.String(), g, err)
		}
	}
	for text, want := range map[string]string{"warm": "is not a condition",
		"class=hot": "use cold, first, warm or retried", "status=20": "write one such as 200",
		"status=9xx": "write one such as", "from=2": "is not a duration",
		"from=4s to=2s": "from 4s to 2s contains nothing", "nth=0": "write one such as 1",
		"nth=5-2": "write one such as 1", "colour=red": "unknown condition", "outcome=lost": "use one of done",
		"class=": "is not a condition", "longer=-1s": "is not a duration"} {
		if _, err := record.ParseFilter(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// A filter takes what it says, of all that is shown at once: whatever the condition,
// the part and its opposite make up the whole, and figures of the part are those of
// its samples.
func TestAFilterTakesWhatItSays(t *testing.T) {
	r := recordtest.CalmWith(func(s *recordtest.Scene) {
		s.Gap, s.Limits.Max, s.Source.Wait, s.Limits.IdleAfter = time.Millisecond, 3, 10*time.Millisecond,
			50*time.Millisecond
	}).Run()
	for i := range r.Invocations {
		if i%7 == 0 {
			r.Invocations[i].Status = 404
		}
	}
	all := report.NewPage(r).Summary
	whole := all.Events.Deliveries
	if all.Events.Rejected == 0 || all.Functions["f"].Latency.Cold.N == 0 {
		t.Fatal("the scene has nothing to select")
	}
	half := time.Duration(r.Length) / 2
	parts := map[string][]record.Filter{
		"class":   {{Class: "cold"}, {Class: "first"}, {Class: "warm"}, {Outcome: "rejected"}},
		"status":  {{Status: "200"}, {Status: "4xx"}, {Outcome: "rejected"}},
		"time":    {{To: half}, {From: half}},
		"outcome": {{Outcome: "done"}, {Outcome: "rejected"}},
		"latency": {{Shorter: 6 * time.Millisecond}, {Longer: 6 * time.Millisecond}, {Outcome: "rejected"}},
		"nth":     {{First: 1, Last: 1}, {First: 2, Last: math.MaxInt32}, {Outcome: "rejected"}},
		"all":     {{Function: "f", Variant: "-", Source: "s"}},
		"nothing": {{Function: "other"}, {}},
	}
	for name, filters := range parts {
		events, calls := 0, 0
		for _, f := range filters {
			part := r.Filter(f)
			s := report.NewPage(part).Summary
			events += s.Events.Deliveries
			calls += len(part.Invocations)
			if _, n := r.Points(f, 10); n != len(part.Invocations) { // each carries one event
				t.Errorf("%s: %d match, and the part has %d", f, n, len(part.Invocations))
			}
			for i := range part.Deliveries {
				if d := &part.Deliveries[i]; d.Event < 0 || int(d.Event) >= len(part.Arrivals) {
					t.Fatalf("%s: a delivery of event %d, of %d", f, d.Event, len(part.Arrivals))
				}
			}
			for i := range part.Invocations {
				v := &part.Invocations[i]
				if f.Class != "" && v.Class.String() != f.Class || f.To > 0 && time.Duration(v.Done) >= f.To ||
					time.Duration(v.Done) < f.From {
					t.Fatalf("%s took %+v", f, v)
				}
			}
		}
		if events != whole || calls != len(r.Invocations) {
			t.Errorf("by %s: %d deliveries and %d invocations, want %d and %d", name, events, calls, whole,
				len(r.Invocations))
		}
	}
	warm := report.NewPage(r.Filter(record.Filter{Class: "warm"})).Summary.Functions["f"].Latency.Warm
	if *warm.P50 != *all.Functions["f"].Latency.Warm.P50 || warm.N != all.Functions["f"].Latency.Warm.N {
		t.Errorf("warm alone: %+v; in the whole: %+v", warm, all.Functions["f"].Latency.Warm)
	}
	if r.Unknown(record.Filter{Function: "g"}) == "" || r.Unknown(record.Filter{Source: "x"}) == "" ||
		r.Unknown(record.Filter{Function: "f", Source: "s"}) != "" {
		t.Error("names that the run does not have are not told")
	}
}
