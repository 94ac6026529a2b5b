package measure

import (
	"math"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/fault"
	"nightdrill/internal/core/rng"
)

func ms(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }

// fixture: one cold and one warm answer, one rejection, one message that was
// tried twice and became a dead letter, one event that never ended.
func fixture() *Run {
	return &Run{Project: "p", Drill: "d", ID: "r", Seed: 3, Finished: false, Length: ms(5000), Busy: math.NaN(),
		Functions: []Function{{Name: "quote", Max: 2, PerInstance: 1}, {Name: "boarding", Max: 1, PerInstance: 1}},
		Sources: []Source{{Name: "fares", Kind: "http", Routes: []string{"GET /quote"}, To: []int{0}},
			{Name: "scans", Kind: "queue", To: []int{1}}},
		Budgets: []string{"function quote cold max < 150ms", "function quote warm p50 < 1s",
			"source scans dead_lettered == 0", "project arrived >= 5"},
		Arrivals: []Arrival{{Due: ms(0), Arrived: ms(1), From: -1}, {Due: ms(200), Arrived: ms(200), From: -1},
			{Due: ms(201), Arrived: ms(201), From: -1},
			{Due: ms(0), Arrived: ms(0), From: -1, Source: 1}, {Due: ms(4990), Arrived: ms(4990), From: -1}},
		Instances: []Instance{{ID: 0, Number: 1, Spawned: ms(1), Ready: ms(101), Stopped: ms(4000)},
			{ID: 1, Function: 1, Number: 1, Spawned: ms(0), Ready: ms(10)}},
		Invocations: []Invocation{
			{ID: 1, Assigned: ms(101), Sent: ms(101), Done: ms(120), Status: 200, Batch: 1, Class: engine.Cold},
			{ID: 2, Assigned: ms(200), Sent: ms(200), Done: ms(204), Status: 200, Batch: 1, Class: engine.Warm},
			{ID: 3, Function: 1, Instance: 1, Source: 1, Assigned: ms(10), Sent: ms(10), Done: ms(20), Status: 500,
				Batch: 1, Class: engine.Cold, Result: engine.OK},
			{ID: 4, Function: 1, Instance: 1, Source: 1, Assigned: ms(120), Sent: ms(120), Done: ms(1120), Batch: 1,
				Class: engine.Warm, Result: engine.Timeout},
		},
		Attempts: []Attempt{{Event: 0, Invocation: 1, N: 1}, {Event: 1, Invocation: 2, N: 1},
			{Event: 3, Invocation: 3, Source: 1, N: 1, Result: engine.BadStatus}, {Event: 3, Invocation: 4, Source: 1,
				N: 2, Result: engine.Timeout}},
		Deliveries: []Delivery{{Event: 0, Invocation: 1, Attempts: 1, Outcome: engine.Done},
			{Event: 1, Invocation: 2, Attempts: 1, Outcome: engine.Done},
			{Event: 2, Outcome: engine.Rejected}, {Event: 3, Invocation: 4, Source: 1, Attempts: 2,
				Outcome: engine.DeadLettered}},
	}
}

func TestASummaryAddsUp(t *testing.T) {
	s := Summarize(fixture())
	if want := (Counts{Arrived: 5, Deliveries: 5, Done: 2, DeadLettered: 1, Rejected: 1,
		Abandoned: 1}); s.Events != want {
		t.Errorf("events %+v, want %+v", s.Events, want)
	}
	q, b := s.Functions["quote"], s.Functions["boarding"]
	if *q.Latency.Cold.Max != 120 || *q.Service.Cold.Max != 19 || *q.Latency.Warm.Max != 4 || *q.Start.Max != 100 ||
		q.Latency.Cold.P50 != nil {
		t.Errorf("quote: cold %v, service %v, warm %v, start %v", *q.Latency.Cold.Max, *q.Service.Cold.Max,
			*q.Latency.Warm.Max, *q.Start.Max)
	}
	// latency is from the first due to the last done; a timed-out attempt stays in
	// a delivery of several attempts is in a population of its own
	if *b.Latency.Retried.Max != 1120 || b.Latency.Cold.N != 0 || b.Latency.Warm.N != 0 || b.Timeouts != 1 ||
		b.Attempts != 2 || b.Statuses["500"] != 1 {
		t.Errorf("boarding %+v", b)
	}
	if r := q.Routes["GET /quote"]; r.Cold.N != 1 || r.Warm.N != 1 {
		t.Errorf("route %+v", r)
	}
	// routes of two sources that are called the same are one
	twice := fixture()
	twice.Sources[1].Kind, twice.Sources[1].Routes, twice.Sources[1].To = "http", []string{"GET /quote"}, []int{0}
	twice.Invocations[3].Function = 0
	if r := Summarize(twice).Functions["quote"].Routes["GET /quote"]; r.Cold.N != 1 || r.Warm.N != 1 ||
		r.Retried.N != 1 || r.Statuses["200"] != 2 || r.Statuses["500"] != 1 {
		t.Errorf("two wires of one name: %+v", r)
	}
	held := ""
	for _, v := range s.Budgets {
		held += map[bool]string{true: "+", false: "-"}[v.Held]
	}
	if held != "+--+" || !strings.Contains(s.Budgets[1].Why, "p50 needs 6") {
		t.Errorf("budgets %s %+v", held, s.Budgets)
	}
	text := strings.Join(NewPage(fixture()).Sentences, "\n")
	for _, want := range []string{"fares: 1 of 4 requests rejected", "scans: 1 event retried", "1 event dead-lettered",
		"1 delivery was open", "boarding replied with status 500 (1) of 1 invocation"} {
		if !strings.Contains(text, want) {
			t.Errorf("the sentences\n%s\ndo not say %q", text, want)
		}
	}
}

func TestBudgetsAreReadStrictly(t *testing.T) {
	for text, want := range map[string]Budget{
		"function quote cold p95 < 900ms": {Of: "function", Name: "quote", Kind: "latency", Class: "cold",
			Figure: "p95", Unit: "ms", Op: "<", Bound: 900},
		"function quote all p99.9 < 1s": {Of: "function", Name: "quote", Kind: "latency", Figure: "p99.9",
			Unit: "ms", Op: "<", Bound: 1000},
		"source fares wait p50 < 1s": {Of: "source", Name: "fares", Kind: "wait", Figure: "p50",
			Unit: "ms", Op: "<", Bound: 1000},
		"function quote@node memory <= 192MiB": {Of: "function", Name: "quote@node", Kind: "memory", Figure: "max",
			Unit: "MiB", Op: "<=", Bound: 192},
		"function quote unexpected <= 0.5%": {Of: "function", Name: "quote", Kind: "count", Figure: "unexpected",
			Unit: "%", Op: "<=", Bound: 0.5},
		"source fares done >= 150/s": {Of: "source", Name: "fares", Kind: "count", Figure: "done",
			Unit: "/s", Op: ">=", Bound: 150},
		"project cost < 0.02": {Of: "project", Kind: "cost", Figure: "cost", Op: "<", Bound: 0.02},
		"function quote warm service p50 <= 1.5ms": {Of: "function", Name: "quote", Kind: "service", Class: "warm",
			Figure: "p50", Unit: "ms", Op: "<=", Bound: 1.5},
		"function api status 4xx < 1%": {Of: "function", Name: "api", Kind: "count", Figure: "status 4xx",
			Unit: "%", Op: "<", Bound: 1},
		"function etl cold == 0": {Of: "function", Name: "etl", Kind: "count", Figure: "cold", Op: "=="},
		"source scans retried p95 < 2s": {Of: "source", Name: "scans", Kind: "latency", Class: "retried",
			Figure: "p95", Unit: "ms", Op: "<", Bound: 2000},
		"function quote start max < 2s": {Of: "function", Name: "quote", Kind: "start", Figure: "max", Unit: "ms",
			Op: "<", Bound: 2000},
		"function quote crashes == 0": {Of: "function", Name: "quote", Kind: "count", Figure: "crashes", Op: "==",
			Bound: 0},
		"project rejected <= 20": {Of: "project", Kind: "count", Figure: "rejected", Op: "<=", Bound: 20},
	} {
		want.Text = text
		if got, err := ParseBudget(text); err != nil || got != want {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
	}
	for _, bad := range []string{"", "function", "function quote", "function quote cold p95 < 900",
		"function quote cold p95 900ms",
		"source scans lost == 0", "project done == many", "source scans done == 1 or so",
		"function quote start service p50 < 1s",
		"function quote cold crashes == 0", "source fares start p50 < 1s", "source fares memory < 1MiB",
		"chain cargo cold p50 < 1s", "source fares arrived < 5%", "function quote p100 < 1s",
		"function quote memory < 5",
		"project rejected < NaN", "function quote all == 0", "function quote status ok < 1%",
		"function quote retried service p50 < 1s", "function quote status 4x < 1",
		"function quote start cold p50 < 1s"} {
		if b, err := ParseBudget(bad); err == nil {
			t.Errorf("%q was read as %+v", bad, b)
		}
	}
}

// Summaries of a million invocations take less than 300 ms.
func BenchmarkSummarize(b *testing.B) {
	r := fixture()
	r.Arrivals, r.Invocations, r.Attempts, r.Deliveries = nil, nil, nil, nil
	rnd := rng.New(1, 1)
	for i := range 1_000_000 {
		at := ms(i)
		d := rnd.Exp(5 * time.Millisecond)
		r.Arrivals = append(r.Arrivals, Arrival{Due: at, Arrived: at, From: -1})
		r.Invocations = append(r.Invocations, Invocation{ID: uint64(i + 1), Assigned: at, Sent: at, Done: at.Add(d),
			Status: 200})
		r.Attempts = append(r.Attempts, Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1})
		r.Deliveries = append(r.Deliveries, Delivery{Event: int64(i), Invocation: uint64(i + 1), Attempts: 1})
	}
	for b.Loop() {
		Summarize(r)
	}
}

// A chain lasts from the first event's due to the end of its last step, faults
// are counted once for each event, and second deliveries are compared with the
// first.
func TestChainsFaultsAndSecondDeliveries(t *testing.T) {
	ms := func(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }
	r := &Run{Idempotence: true, Finished: true, Busy: math.NaN(), Functions: []Function{{Name: "f"}},
		Payloads: []Payload{{Set: "s", N: 1, Label: "a scan"}},
		Sources: []Source{{Name: "cargo", Kind: "storage", To: []int{0}}, {Name: "scans", Kind: "queue",
			To: []int{0}}}, Length: ms(1000)}
	add := func(source int, due, ended int, from int64, origin engine.Origin, kinds uint8, status, reply int32,
		o engine.Outcome) int64 {
		id := int64(len(r.Arrivals))
		r.Arrivals = append(r.Arrivals, Arrival{Due: ms(due), Arrived: ms(due), From: from, Origin: origin,
			Source: int32(source), Fault: kinds})
		inv := uint64(len(r.Invocations) + 1)
		r.Invocations = append(r.Invocations, Invocation{ID: inv, Assigned: ms(due), Sent: ms(due), Done: ms(ended),
			Source: int32(source), Status: status, Reply: reply, Batch: 1})
		r.Attempts = append(r.Attempts, Attempt{Event: id, Invocation: inv, Source: int32(source), N: 1})
		r.Deliveries = append(r.Deliveries, Delivery{Event: id, Invocation: inv, Ended: ms(ended),
			Source: int32(source), Attempts: 1, Outcome: o})
		return id
	}
	first := add(0, 100, 150, -1, engine.FromOutside, 0, 200, 1, engine.Done)
	second := add(1, 150, 230, first, engine.FromReply, 0, 200, 2, engine.Done)
	add(1, 230, 260, second, engine.FromReply, 0, 200, 2, engine.Failed)
	add(0, 300, 310, -1, engine.FromOutside, 0, 200, 1, engine.Done) // no chain
	twice := add(1, 400, 410, -1, engine.FromOutside, fault.Duplicated|fault.Delayed, 200, 3, engine.Done)
	add(1, 420, 430, twice, engine.FromFault, fault.Duplicated|fault.Delayed, 200, 4, engine.Done)
	same := add(1, 500, 510, -1, engine.FromOutside, fault.Redelivered, 200, 3, engine.Done)
	add(1, 520, 530, same, engine.FromFault, fault.Redelivered, 200, 3, engine.Done)
	lost := add(1, 600, 610, -1, engine.FromOutside, fault.AckLost, 200, 5, engine.Done)
	r.Invocations = append(r.Invocations, Invocation{ID: 99, Assigned: ms(590), Done: ms(595), Source: 1, Status: 409,
		Reply: 6, Batch: 1})
	r.Attempts = append(r.Attempts, Attempt{Event: lost, Invocation: 99, Source: 1, N: 1, Result: engine.AckLost})
	for i := range 3 { // open at the end; of two the source never heard that they went well
		add(1, 700, 710, -1, engine.FromOutside, 0, 200, 5, engine.Abandoned)
		if i < 2 {
			r.Attempts[len(r.Attempts)-1].Result = engine.AckLost
		}
	}
	r.Budgets = []string{"chain cargo max < 100ms", "chain cargo p50 < 1s"}
	s := Summarize(r)
	if c := s.Chains["cargo"]; len(s.Chains) != 1 || c.Latency.N != 1 || *c.Latency.Max != 160 || c.Steps != 3 ||
		c.Broken != 1 {
		t.Errorf("chains %+v", s.Chains)
	}
	if s.Budgets[0].Held || *s.Budgets[0].Measured != 160 || !strings.Contains(s.Budgets[1].Why, "too few samples: 1") {
		t.Errorf("budgets %+v", s.Budgets)
	}
	if f := s.Faults; f["duplicated"] != 1 || f["delayed"] != 1 || f["redelivered late"] != 1 ||
		f["acknowledgement lost"] != 3 || len(f) != 4 {
		t.Errorf("faults %v", f)
	}
	if x := s.Idempotence; x.Twice != 3 || x.Differed != 2 || x.Which[0] != "event 4 (a scan): a different reply" ||
		x.Which[1] != "event 8 (a scan): status 409, then 200" {
		t.Errorf("second deliveries %+v", x)
	}
	text := strings.Join(NewPage(r).Sentences, "\n")
	for _, want := range []string{"cargo started 1 chain of up to 3 steps: at most 160 ms",
		"1 chain had a failing step (at scans)", "duplicated 1, delayed 1", "2 of 3 second deliveries",
		"3 deliveries were open when the run ended; of 2 the acknowledgement was lost"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
}
