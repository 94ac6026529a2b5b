package session

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/logs"
)

func TestADrillIsFoundByItsName(t *testing.T) {
	d, _ := open(t, "", plan.Limits{})
	if got, err := d.Drill(""); err != nil || got.Name != "d" {
		t.Errorf("the only one: %v, %v", got, err)
	}
	if _, err := d.Drill("e"); err == nil || !strings.Contains(err.Error(), `unknown drill "e"; available: d`) {
		t.Errorf("one that is not there: %v", err)
	}
	d.Drills = append(d.Drills, plan.Drill{Name: "e"})
	if _, err := d.Drill(""); err == nil || !strings.Contains(err.Error(),
		"missing name of the drill; available: d, e") {
		t.Errorf("one of two: %v", err)
	}
	d.Drills = nil
	if _, err := d.Drill(""); err == nil || !strings.Contains(err.Error(), "has no drills") {
		t.Errorf("one of none: %v", err)
	}
}

// A drill is kept while it runs; stopped early it is unfinished; what was kept
// is what was measured, and its findings are those that were shown.
func TestADrillIsKeptAsItRuns(t *testing.T) {
	limits := plan.Limits{Max: 2, PerInstance: 1, IdleAfter: time.Minute}
	d, drill := open(t, "two bytes", limits, arrival.Phase{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 200,
		Per: time.Second}, For: time.Hour})
	r, err := d.Start(context.Background(), drill, nil)
	if err != nil {
		t.Fatal(err)
	}
	var early *record.Run
	for end := time.Now().Add(2 * time.Minute); early == nil || len(early.Deliveries) < 20; {
		if early, err = d.Runs.Load(r.ID); err != nil || time.Now().After(end) {
			t.Fatalf("it is not kept as it runs: %v", err)
		}
	}
	if early.Finished {
		t.Error("it is kept as finished while it runs")
	}
	r.Stop()
	<-r.Done()
	if r.Err() != nil {
		t.Fatal(r.Err())
	}
	live := r.Snapshot()
	kept, err := d.Runs.Load(r.ID)
	if err != nil || kept.Finished || len(kept.Deliveries) != len(live.Deliveries) ||
		len(kept.Invocations) != len(live.Invocations) || kept.Length != live.Length {
		t.Errorf("%v; kept %d deliveries of %d, finished %v", err, len(kept.Deliveries), len(live.Deliveries),
			kept.Finished)
	}
	page, err := d.Runs.Page(r.ID)
	if err != nil || page.Summary.Events != r.Page().Summary.Events || page.Summary.Events.Arrived == 0 {
		t.Errorf("%v; the findings that were kept have %+v, those shown %+v", err, page.Summary.Events,
			r.Page().Summary.Events)
	}
	lines, err := d.Runs.Lines(r.ID)
	if err != nil || !reflect.DeepEqual(lines, r.Lines()) || !slices.ContainsFunc(lines, func(l record.Line) bool {
		return l.Kind == record.InstanceStarted && l.At >= 0 && l.At < live.Length
	}) {
		t.Errorf("%v; %d lines of the log are kept, of %d", err, len(lines), len(r.Lines()))
	}
	if a, info, ok := d.Answered(&d.Sets[0]); !ok || info.ID != r.ID || a.N() == 0 || a.N() > len(d.Sets[0].Payloads) {
		t.Errorf("how the payloads were answered: %v, in %v", ok, info.ID)
	} else if labels, counts := a.Counts(); len(labels) != 1 || labels[0] != "status 200" ||
		counts["status 200"] != a.N() {
		t.Errorf("the payloads were answered %v", counts)
	}
	if n := page.Summary.Events; n.Deliveries != n.Done+n.Abandoned+n.Rejected+n.Failed {
		t.Errorf("the counts do not add up: %+v", n)
	}
}

// A run keeps log lines up to a bound, and says how many more there were.
func TestTheLogOfARunIsBounded(t *testing.T) {
	log := logs.New("")
	at := func(t time.Time) clock.Time { return clock.Time(t.UnixNano()) }
	log.Add(time.Unix(0, 1), "f", "f-1", logs.Line, "before the run")
	l := newRunLog(log)
	for i := range mostRunLines + 100 {
		log.Add(time.Unix(0, int64(i)), "f", "f-1", logs.Line, fmt.Sprint(i))
		if i%10_000 == 0 {
			l.upTo(at)
		}
	}
	lines := l.end(at)
	if len(lines) != mostRunLines+1 || lines[0].Text != "0" || !strings.HasPrefix(lines[mostRunLines].Text,
		"100 lines were not kept") {
		t.Errorf("%d lines, the last is %q", len(lines), lines[len(lines)-1].Text)
	}
	l = newRunLog(log)
	log.Add(time.Unix(0, 1), "f", "f-1", logs.Line, strings.Repeat("é", 2*longestRunLine))
	if got := l.upTo(at); len(got) != 1 || len([]rune(got[0].Text)) > longestRunLine+1 {
		t.Errorf("a long line is kept with %d bytes", len(got[0].Text))
	}
}

// The running figures agree with the exact ones to their three digits.
func TestRunningFiguresAgreeWithTheFindings(t *testing.T) {
	limits := plan.Limits{Max: 2, PerInstance: 1, IdleAfter: time.Minute}
	d, drill := open(t, "two bytes", limits, arrival.Phase{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 200,
		Per: time.Second}, For: time.Second})
	_, run := carryOut(t, d, drill)
	tally := measure.NewTally(run)
	tally.Update(run, func(id uint64) *record.Invocation {
		for i := range run.Invocations {
			if run.Invocations[i].ID == id {
				return &run.Invocations[i]
			}
		}
		return nil
	})
	exact := report.Summarize(run).Functions["f"].Latency.Warm
	running := tally.Functions[0].Percentile(0, 0.5)
	if running == nil || exact.P50 == nil || tally.Functions[0].N(0) != exact.N {
		t.Fatalf("running %v of %d, exact %v of %d", running, tally.Functions[0].N(0), exact.P50, exact.N)
	}
	// the histogram counts whole microseconds
	if d := *running - *exact.P50; d > 0.003+*exact.P50/500 || d < -0.003-*exact.P50/500 {
		t.Errorf("the running median is %v ms, the exact one %v", *running, *exact.P50)
	}
}

// The service time of a function whose true time is known, by its own clock, is that
// time plus no more than a bare round trip and a millisecond: of the fastest, since a
// busy machine adds to any of them.
func TestAFunctionOfKnownTime(t *testing.T) {
	d, drill := open(t, "busy", plan.Limits{Max: 1, PerInstance: 1, KeepWarm: 1, IdleAfter: time.Minute},
		arrival.Phase{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 25, Per: time.Second}, For: 2 * time.Second})
	r, run := carryOut(t, d, drill)
	var extra []time.Duration
	for i := range run.Invocations {
		v := &run.Invocations[i]
		_, body, _ := strings.Cut(string(run.Blobs[v.Reply-1]), "\n\n")
		own, err := strconv.ParseInt(body, 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		extra = append(extra, v.Done.Sub(v.Sent)-time.Duration(own))
	}
	bare := r.Page().Summary.Driver.EchoDuring.P50
	if bare == nil || len(extra) != 50 {
		t.Fatalf("%d answers, a bare round trip of %v", len(extra), bare)
	}
	if got, most := slices.Min(extra), time.Duration(*bare*1e6)+time.Millisecond; got < 0 || got > most {
		t.Errorf("the service time is %v longer than the function's own; a bare round trip took %v ms", got, *bare)
	}
}
