package measure

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/rng"
)

// batches is a run of messages that come one every 10 ms and are dispatched in batches of
// up to ten; each message waits for its batch, and all of a batch share its service time
// and its fate.
func batches(seed uint64, n int) *Run {
	r := &Run{ID: "r", Functions: []Function{{Name: "f"}}, Sources: []Source{{Name: "s", Kind: "queue", To: []int{0}}},
		Instances: make([]Instance, 1), Payloads: make([]Payload, 1)}
	rnd := rng.New(seed, 1)
	for at := clock.Time(0); len(r.Deliveries) < n; {
		size := 1 + rnd.Below(10)
		sent := at.Add(time.Duration(size) * 10 * time.Millisecond)
		id := uint64(len(r.Invocations) + 1)
		done := sent.Add(5*time.Millisecond + rnd.Exp(20*time.Millisecond))
		outcome := map[bool]engine.Outcome{true: engine.Failed}[rnd.Chance(1, 20)]
		r.Invocations = append(r.Invocations, Invocation{ID: id, Assigned: sent, Sent: sent, Done: done,
			Batch:  int32(size),
			Status: 200})
		for k := range size {
			due := at.Add(time.Duration(k) * 10 * time.Millisecond)
			event := int64(len(r.Arrivals))
			r.Arrivals = append(r.Arrivals, Arrival{Due: due, Arrived: due, From: -1})
			r.Attempts = append(r.Attempts, Attempt{Event: event, Invocation: id, N: 1})
			r.Deliveries = append(r.Deliveries, Delivery{Event: event, Invocation: id, Ended: done, Attempts: 1,
				Outcome: outcome})
		}
		at = sent
	}
	return r
}

// Identical code fails the gate in at most one pair of runs in twenty, also where
// messages come in batches and a batch fails as a whole; code that is slower does fail.
func TestIdenticalCodePassesTheGate(t *testing.T) {
	failed, slow := 0, 0
	const pairs = 200
	for seed := range uint64(pairs) {
		base, now := batches(2*seed, 2000), batches(2*seed+1, 2000)
		if misses(Against(now, base, 0)) {
			failed++
		}
		for i := range now.Invocations {
			v := &now.Invocations[i]
			v.Done = v.Sent.Add(4 * v.Done.Sub(v.Sent))
		}
		if misses(Against(now, base, 0)) {
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

func misses(all []Verdict) bool {
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
	p := batches(1, 600).Collect()
	if n := p[0].Latency[engine.Warm].Units(); n < 90 || n > 130 {
		t.Fatalf("%d units", n)
	}
	f := Summarize(batches(1, 600)).Functions["f"]
	if l, s := f.Latency.Warm, f.Service.Warm; l.N != 600 || l.P50Lo == nil || l.P95 == nil || l.P95Lo != nil ||
		l.Needs[1] <= 600 || s.Needs[1] <= 600 {
		t.Errorf("latency %+v, service %+v", l, s)
	}
}

// What a point of the findings stands for is what it opens: a delivery counts by its own
// latency and class, an invocation by its own place, also where all it carried came again.
func TestAPointOpensWhatItCounts(t *testing.T) {
	r := fixture()
	r.Payloads = make([]Payload, 1)
	for filter, want := range map[string]string{
		"function=quote class=cold longer=100ms shorter=130ms": "1: 120ms 101ms 19ms",
		"function=boarding class=warm longer=1s shorter=2s":    "",
		"function=boarding class=retried longer=1s shorter=2s": "4: 1.12s 120ms 1s",
		"function=boarding status=500":                         "3: 20ms 10ms 10ms",
		"function=boarding nth=1":                              "3: 20ms 10ms 10ms",
		"start=90ms-110ms":                                     "1: 120ms 101ms 19ms",
		"function=quote outcome=rejected":                      "",
	} {
		f, err := ParseFilter(filter)
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
	r := fixture()
	r.Payloads = []Payload{{Set: "fare-requests", N: 1, Label: "GET /quote/x"},
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
	if len(causes) != 2 || causes[0].Head() != "fares → quote: 1 × answered with status 404" ||
		causes[1].Head() != "scans → boarding: 1 × dead-lettered, timeout" {
		t.Errorf("%+v", causes)
	}
	if text := causes[1].Worst[0].Text(); text != "scan.made 7 · timeout · 2 attempts · due at 0.00 s · last log "+
		"line: cannot reach the gate" {
		t.Error(text)
	}
}

// GET and POST of one wire are routes of their own, each with its statuses.
func TestAWireOfAnyMethodIsARouteForEach(t *testing.T) {
	r := fixture()
	r.Sources[0].Routes[0] = "any /quote"
	r.Payloads = []Payload{{Set: "x", N: 1, Label: "GET /quote"}, {Set: "x", N: 2, Label: "POST /quote"}}
	r.Arrivals[1].Payload, r.Invocations[1].Status = 1, 201
	routes := Summarize(r).Functions["quote"].Routes
	if get, post := routes["GET /quote"], routes["POST /quote"]; len(routes) != 2 || get.Statuses["200"] != 1 ||
		get.Cold.N != 1 || post.Statuses["201"] != 1 || post.Warm.N != 1 {
		t.Errorf("%+v", routes)
	}
	part := r.Filter(Filter{Route: "POST /quote"})
	if len(part.Invocations) != 1 || part.Invocations[0].Status != 201 || len(part.Deliveries) != 1 {
		t.Errorf("of POST there are %+v", part.Deliveries)
	}
}

// A stop of the driver is not part of the function's time without a word, also where it is
// too short and too rare for a percentile.
func TestAStopOfTheDriverIsSaid(t *testing.T) {
	r := fixture()
	r.Self = &SelfCheck{Gaps: []Gap{{ms(201), ms(381)}}}
	r.Invocations[1].Done = ms(381)
	s := Summarize(r)
	want := "the driver itself stalled 1 time, at 0.20 s for 180 ms: up to that much of the times of 2 " +
		"invocations that were in flight is the driver's"
	if len(s.Beside.Latency) == 0 || len(s.Beside.Latency[0]) < len(want) ||
		s.Beside.Latency[0][:len(want)] != want {
		t.Errorf("%q", s.Beside.Latency)
	}
	if got := r.Stood(ms(200), ms(300)); got != 99*time.Millisecond {
		t.Errorf("of that, %v", got)
	}
}

// Replies in two pieces 40 ms apart are the network's doing, and there is a remedy.
func TestRepliesInTwoPiecesAreExplained(t *testing.T) {
	r := batches(1, 300)
	for i := range r.Invocations {
		v := &r.Invocations[i]
		v.Received, v.Done = v.Sent.Add(5*time.Millisecond), v.Sent.Add(46*time.Millisecond)
	}
	if text := Summarize(r).Beside.Latency; len(text) == 0 || text[len(text)-1][:3] != "f: " {
		t.Errorf("%q", text)
	}
	for i := range r.Invocations {
		v := &r.Invocations[i]
		v.Received = v.Sent.Add(30 * time.Millisecond)
	}
	if text := Summarize(r).Beside.Latency; len(text) != 0 {
		t.Errorf("of slow replies in one piece: %q", text)
	}
}

// Of two starts nothing is said about warming up, however slow their first answers were.
func TestWarmingUpTakesInstances(t *testing.T) {
	r := &Run{Functions: []Function{{Name: "f"}}, Instances: make([]Instance, 6)}
	for n := range 200 {
		for in := range 6 {
			took := 5*time.Millisecond + time.Duration(n%7)*time.Microsecond
			if n == 0 {
				took *= 10
			}
			r.Invocations = append(r.Invocations, Invocation{ID: uint64(len(r.Invocations) + 1), Instance: int32(in),
				Sent:     1,
				Assigned: 1, Done: 1 + clock.Time(took)})
		}
	}
	if w := Analyze(r).Summary.Functions["f"].WarmUp; w.Steady == nil || *w.Steady != 2 {
		t.Errorf("of six: %q", w.Text())
	}
	for i := range r.Invocations {
		r.Invocations[i].Instance %= 2
	}
	if w := Analyze(r).Summary.Functions["f"].WarmUp; w.Steady != nil || w.Gain != nil ||
		w.Text() != "2 instances: too few samples (needs 6)" {
		t.Errorf("of two: %q", w.Text())
	}
}
