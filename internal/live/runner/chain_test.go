package runner

import (
	"context"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
)

// loops is a project whose function's replies go round: from a stream to a queue,
// and from there to itself again and again.
func loops(steps int) (*plan.Project, *plan.Drill) {
	p, d := testProject("answers", true)
	p.Steps = steps
	limits := plan.Limits{Max: 4, PerInstance: 1, IdleAfter: time.Minute}
	p.Functions[0].Limits, p.Functions[0].Path = limits, "/"
	ok := []plan.StatusRange{{From: 200, To: 299}}
	p.Functions[0].Then = []plan.Then{{To: 1, Status: ok, Type: "again"}}
	to := []plan.Wire{{To: 0}}
	p.Sources = []plan.Source{
		{Name: "records", Kind: plan.Stream, Wires: to, BatchMax: 1, Partitions: 2, Attempts: 2, DeadLetter: -1,
			FromNew: true},
		{Name: "rounds", Kind: plan.Queue, Wires: to, BatchMax: 1, Lease: 100 * time.Millisecond,
			LeaseMost: 20 * time.Second, Attempts: 4, DeadLetter: -1},
	}
	set := payload.Set{Name: "set"}
	for i := range 6 {
		set.Payloads = append(set.Payloads, payload.Payload{Event: &event.Event{ID: "r" + string(rune('0'+i)),
			Source: "s", Type: "t", Data: []byte(`{"n":1}`)}})
	}
	p.Sets = []payload.Set{set}
	*d = plan.Drill{Name: "d", Seed: 3, Settle: 20 * time.Second, Limits: []plan.Limits{limits},
		Feeds: []plan.Feed{{Source: 0, Set: 0, Retained: 4, Phases: []arrival.Phase{{Pattern: arrival.Once}}}}}
	return p, d
}

// A chain that goes round is stopped after its steps; records that were there
// before are not read where the source begins with new ones.
func TestAChainIsStopped(t *testing.T) {
	p, d := loops(5)
	r := New(p, d, Config{ID: "20260101-000000-aa"})
	r.Run(context.Background())
	run := r.Snapshot()
	replies := 0
	for _, a := range run.Arrivals {
		if a.Origin == engine.FromReply {
			replies++
		}
	}
	notes := strings.Join(run.Notes, "\n")
	if replies != 10 || len(run.Arrivals) != 12 || !strings.Contains(notes, "a chain was stopped after 5 steps") ||
		!strings.Contains(notes, "4 records that were there before the drill are not read") {
		t.Errorf("%d replies of %d events; %s", replies, len(run.Arrivals), notes)
	}
	if s := report.Summarize(run); s.Chains["records"].Latency.N != 2 || s.Chains["records"].Steps != 6 ||
		s.Events.Done != 12 {
		t.Errorf("%+v, %+v", s.Chains, s.Events)
	}
	// what replies were made into is freed
	for n := r.fixed; n < len(r.payloads); n++ {
		if r.payloads[n].Event != nil {
			t.Errorf("payload %d is kept", n)
		}
	}
}

// With every acknowledgement lost once, each message comes again when its lease is
// over, and ends as done; nothing that was lost goes on.
func TestLostAcknowledgements(t *testing.T) {
	p, d := loops(1)
	p.Functions[0].Then = nil
	d.Feeds = []plan.Feed{{Source: 1, Set: 0, Phases: []arrival.Phase{{Pattern: arrival.Once}},
		Faults: fault.Rules{DropAck: fault.Whole, Redeliver: fault.Whole, RedeliverBy: 50 * time.Millisecond}}}
	d.Idempotence = true
	r := New(p, d, Config{ID: "20260101-000000-aa"})
	r.Run(context.Background())
	run := r.Snapshot()
	s := report.Summarize(run)
	if s.Events.Done != 12 || s.Events.Arrived != 12 || s.Faults["acknowledgement lost"] != 6 ||
		s.Faults["redelivered late"] != 6 || s.Idempotence.Twice != 12 || s.Idempotence.Differed != 0 {
		t.Errorf("%+v, faults %v, twice %+v", s.Events, s.Faults, s.Idempotence)
	}
	lost := map[int64]record.Attempt{}
	for _, a := range run.Attempts {
		if a.Result == engine.AckLost {
			lost[a.Event] = a
		} else if first, was := lost[a.Event]; was && a.N != first.N+1 {
			t.Errorf("event %d had attempt %d after %d", a.Event, a.N, first.N)
		}
	}
}
