package drillview

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/tui/viewtest"
)

// keyed returns the message that a key leads to, as text.
func keyed(m *Model, k string) string {
	cmd := m.Key(viewtest.Key(k))
	if cmd == nil {
		return ""
	}
	return fmt.Sprintf("%T %+v", cmd(), cmd())
}

// Every limit can be changed by steps and by a typed value; what cannot be read is
// said and not asked for.
func TestLimitsPanel(t *testing.T) {
	r := sample(4)
	r.Concurrency, r.Finished = 24, false
	m := New(&plan.Project{}, nil)
	m.Resize(160, 43)
	m.Begin(&plan.Drill{Name: "d"}, r)
	m.Update(r, []engine.Stats{{InFlight: 1, Claimed: 1}})
	m.Limits(24, []plan.Limits{{Max: 3, PerInstance: 1, IdleAfter: 5 * time.Second}})
	for _, c := range []struct{ keys, want, shows string }{
		{"e", "", "Current limits"},
		{"+", "drillview.SetAll {Concurrency:25}", ""},
		{"1 2 enter", "drillview.SetAll {Concurrency:12}", ""},
		{"1 x enter", "", "must be a whole number"},
		{"down -", "Max:2 ", ""},
		{"7 8 backspace enter", "Max:7 ", ""},
		{"right +", "Guaranteed:1 ", ""},
		{"right 4 enter", "PerInstance:4 ", ""},
		{"right right -", "IdleAfter:2s ", ""},
		{"9 0 s enter", "IdleAfter:1m30s ", ""},
		{"9 z enter", "", `"9z" is not a duration`},
		{"right -", "StartEvery:10ms ", ""},
		{"5 / s enter", "StartEvery:200ms ", ""},
		{"4 enter", "StartEvery:250ms ", ""},
		{"0 enter", "StartEvery:0s ", ""},
		{"right +", "StartBurst:1", ""},
		{"t", "TurnAway:true", ""},
		{"r", "drillview.Replace {Function:0}", ""},
		{"1 esc", "", "Current limits"},
	} {
		got := ""
		for _, k := range strings.Fields(c.keys) {
			got = keyed(m, k)
		}
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s leads to %q, want %q", c.keys, got, c.want)
		}
		if pane := shown(m); !strings.Contains(pane, c.shows) {
			t.Errorf("after %s %q is not shown:\n%s", c.keys, c.shows, pane)
		}
	}
	m.Changed(errors.New("9 are guaranteed, but at most 2 may be in flight"))
	if pane := shown(m); !strings.Contains(pane, "not changed: 9 are guaranteed") {
		t.Errorf("why it was not changed is not shown:\n%s", pane)
	}
	if keyed(m, "esc"); m.Typing() {
		t.Error("it does not close")
	}
}

// The view says how much of a limit is in use, why requests were rejected, what
// was changed, what instances use, and of one that is opened why it was started.
func TestLimitsAndInstancesAreExplained(t *testing.T) {
	r := sample(1)
	r.Finished, r.Concurrency = false, 24
	r.Functions = append(r.Functions, record.Function{Name: "b", Max: 4, PerInstance: 1, Memory: 64 << 20,
		Enforced: "enforced by cgroup v2"})
	r.Instances[0].Cause, r.Instances[0].After, r.Instances[0].Peak, r.Instances[0].CPU,
		r.Instances[0].Version = engine.AfterStop, engine.Idle, 42<<20, time.Second, 1
	r.Instances[0].Load = 0.5
	r.Changes = []record.Change{{At: at(700), Function: 1, Text: "max 4 → 2"},
		{At: at(900), Function: -1, Text: "project total 32 → 24"}}
	for range 3 {
		r.Deliveries = append(r.Deliveries, record.Delivery{Outcome: engine.Rejected, Cause: engine.AtLimit})
	}
	r.Deliveries = append(r.Deliveries, record.Delivery{Outcome: engine.Rejected, Cause: engine.TurnedAway})
	m := New(&plan.Project{}, nil)
	m.Resize(160, 43)
	m.Begin(&plan.Drill{Name: "d"}, r)
	m.Limits(24, []plan.Limits{{Max: 3, PerInstance: 1}, {Max: 2, PerInstance: 1, TurnAway: true}})
	m.Update(r, []engine.Stats{{InFlight: 1, Claimed: 1}, {}})
	pane := shown(m)
	for _, want := range []string{"rejected 3 by the function's limit, 1 while everything is rejected",
		"▾ 0.9 s project total 32 → 24   ▾ 0.7 s b max 4 → 2",
		"2 of 24", "━━━━━╍╍╍╍╍┈┈┈┈┈", "42", "0.50", "✗ rejects", "v2  5"} {
		if !strings.Contains(pane, want) {
			t.Errorf("%q is not shown:\n%s", want, pane)
		}
	}
	press(m, "down", "enter")
	pane = shown(m)
	for _, want := range []string{"started because", "the last one had stopped (idle)", "version", "peak 42.0 MiB",
		"processor time"} {
		if !strings.Contains(pane, want) {
			t.Errorf("%q is not said of the instance:\n%s", want, pane)
		}
	}
}
