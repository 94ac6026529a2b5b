package report

import (
	"testing"
	"time"

	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
)

// A stop of the driver is not part of the function's time without a word, also where it is
// too short and too rare for a percentile.
func TestAStopOfTheDriverIsSaid(t *testing.T) {
	r := recordtest.Fixture()
	r.Self = &record.SelfCheck{Gaps: []record.Gap{{From: recordtest.At(201), To: recordtest.At(381)}}}
	r.Invocations[1].Done = recordtest.At(381)
	s := Summarize(r)
	want := "the driver itself stalled 1 time, at 0.20 s for 180 ms: up to that much of the times of 2 " +
		"invocations in flight is the driver's"
	if len(s.Beside.Latency) == 0 || len(s.Beside.Latency[0]) < len(want) ||
		s.Beside.Latency[0][:len(want)] != want {
		t.Errorf("%q", s.Beside.Latency)
	}
	if got := r.Stood(recordtest.At(200), recordtest.At(300)); got != 99*time.Millisecond {
		t.Errorf("of that, %v", got)
	}
}

// Replies in two pieces 40 ms apart are the network's doing, and there is a remedy.
func TestRepliesInTwoPiecesAreExplained(t *testing.T) {
	r := recordtest.Batches(1, 300)
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
