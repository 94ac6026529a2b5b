package record_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/report"
)

// Whatever is written, a filter is read or refused; one that is read is written so that
// it is read again as the same, and takes a part of the run and nothing else.
func FuzzParseFilter(f *testing.F) {
	for _, text := range []string{"function=quote class=warm", "status=4xx from=1s to=2s", "nth=2-9 longer=5ms",
		"outcome=dead_lettered source=scans", "variant=- route=GET+/x"} {
		f.Add(text)
	}
	r := recordtest.Fixture()
	f.Fuzz(func(t *testing.T, text string) {
		x, err := record.ParseFilter(text)
		if err != nil {
			return
		}
		again, err := record.ParseFilter(x.String())
		if err != nil || again != x {
			t.Fatalf("%q is written as %q: %+v, %v", text, x.String(), again, err)
		}
		part := r.Filter(x)
		if len(part.Deliveries) > len(r.Deliveries) || len(part.Invocations) > len(r.Invocations) {
			t.Fatalf("%q took more than there is", text)
		}
		report.NewPage(part)
	})
}

// The phases of an invocation lie end to end from its arrival to its end.
func TestPhases(t *testing.T) {
	ms := func(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }
	in := &record.Instance{Spawned: ms(12), Exec: ms(14), Ready: ms(90)}
	for want, v := range map[string]record.Invocation{
		"wait 2 spawn 2 boot 76 hand over 1 first byte 9 rest 5": {Class: engine.Cold, Assigned: ms(90), Sent: ms(91),
			Received: ms(100), Done: ms(105)},
		"wait 81 first byte 9": {Class: engine.Warm, Assigned: ms(90), Sent: ms(91), Received: ms(100), Done: ms(100)},
		"wait 81 no reply 20":  {Class: engine.First, Assigned: ms(90), Sent: ms(91), Done: ms(111)},
		"wait 20 no reply 10":  {Class: engine.Warm, Assigned: ms(30), Done: ms(40)},
	} {
		var got []string
		at := ms(10)
		for _, p := range record.Phases(at, in, &v) {
			if p.From != at {
				t.Errorf("%s: %s begins at %v, not at %v", want, p.Name, p.From, at)
			}
			at = p.To
			got = append(got, fmt.Sprintf("%s %d", p.Name, p.Took().Milliseconds()))
		}
		if s := strings.Join(got, " "); s != want || at != v.Done {
			t.Errorf("%s to %v, want %s to %v", s, at, want, v.Done)
		}
	}
}

// What became of the events that are the same in two runs: those of one payload are
// distinguished by their turn.
func TestTurns(t *testing.T) {
	run := func(outcomes ...engine.Outcome) *record.Run {
		r := &record.Run{Sources: []record.Source{{Name: "s"}}, Payloads: []record.Payload{{Set: "x", N: 1},
			{Set: "x", N: 2}}}
		for i, o := range outcomes {
			r.Arrivals = append(r.Arrivals, record.Arrival{From: -1, Payload: int32(i % 2)})
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(i), Outcome: o})
		}
		return r
	}
	turns := record.TurnsOf(run(engine.Done, engine.Rejected, engine.Done, engine.Done), run(engine.Done, engine.Done,
		engine.Failed))
	if turns.Same != 1 || turns.Other != 3 || turns.Between["rejected, now done"] != 1 ||
		turns.Between["done, now failed"] != 1 || turns.Between["done, now not sent"] != 1 {
		t.Errorf("%+v", turns)
	}
	if lines := strings.Join(report.TurnLines(turns), "\n"); !strings.Contains(lines,
		"3 of 4 events had a different outcome") ||
		!strings.Contains(lines, "s: x#2: rejected, now done") {
		t.Error(lines)
	}
	if lines := report.TurnLines(record.TurnsOf(run(engine.Done), run(engine.Done))); len(lines) != 1 ||
		lines[0] != "All 1 event had the same outcome." {
		t.Errorf("%q", lines)
	}
}

// What a point of the findings stands for is what it opens: a delivery counts by its own
// latency and class, an invocation by its own place, also where all it carried came again.
func TestAPointOpensWhatItCounts(t *testing.T) {
	r := recordtest.Fixture()
	r.Payloads = make([]record.Payload, 1)
	for filter, want := range map[string]string{
		"function=quote class=cold longer=100ms shorter=130ms": "1: 120ms 101ms 19ms",
		"function=boarding class=warm longer=1s shorter=2s":    "",
		"function=boarding class=retried longer=1s shorter=2s": "4: 1.12s 120ms 1s",
		"function=boarding status=500":                         "3: 20ms 10ms 10ms",
		"function=boarding nth=1":                              "3: 20ms 10ms 10ms",
		"start=90ms-110ms":                                     "1: 120ms 101ms 19ms",
		"function=quote outcome=rejected":                      "",
	} {
		f, err := record.ParseFilter(filter)
		if err != nil {
			t.Fatal(err)
		}
		points, n := r.Points(f, 10)
		var got []string
		for _, p := range points {
			got = append(got, fmt.Sprintf("%d: %v %v %v", r.Invocations[p.Invocation].ID, p.Latency, p.Wait, p.Service))
		}
		if strings.Join(got, ", ") != want || n != len(points) {
			t.Errorf("%s: %q, want %q", filter, got, want)
		}
	}
}

// What failed is named: its key or path, how it failed, and the last log line; by cause,
// the most common first, and all of it on demand.
func TestFailuresAreNamed(t *testing.T) {
	r := recordtest.Fixture()
	r.Payloads = []record.Payload{{Set: "fare-requests", N: 1, Label: "GET /quote/x"},
		{Set: "scans", N: 7, Label: "scan.made 7"}}
	r.Arrivals[3].Payload = 1
	r.Invocations[1].Status, r.Said = 404, map[uint64]string{4: "cannot reach the gate"}
	all := r.Failures()
	if len(all) != 3 { // answered 404, rejected, dead-lettered
		t.Fatalf("%d failures: %+v", len(all), all)
	}
	dead := all[2]
	if dead.What != "scan.made 7" || dead.Payload != "scans#7" || dead.Outcome != "dead_lettered" ||
		dead.Attempts != 2 || dead.Status != 0 || dead.Result != "timeout" ||
		dead.LastLine != "cannot reach the gate" ||
		dead.Instance != "boarding-1" {
		t.Errorf("%+v", dead)
	}
	causes := r.FailureCauses()
	if len(causes) != 2 || report.CauseText(&causes[0]) != "fares → quote: 1 × answered with status 404" ||
		report.CauseText(&causes[1]) != "scans → boarding: 1 × dead-lettered, timeout" {
		t.Errorf("%+v", causes)
	}
	if text := report.FailureText(&causes[1].Worst[0]); text != "scan.made 7 · timeout · 2 attempts · due at 0.00 s "+
		"· last log line: cannot reach the gate" {
		t.Error(text)
	}
}
