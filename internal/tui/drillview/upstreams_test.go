package drillview

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/session"
)

// Every setting of an upstream can be changed by steps and by a typed value, below the limits of the functions.
func TestUpstreamsInTheLimitsPanel(t *testing.T) {
	r := sample(4)
	r.Finished = false
	m := New(&plan.Project{}, nil)
	m.Resize(160, 43)
	m.Begin(&plan.Drill{Name: "d"}, r)
	m.Update(r, []engine.Stats{{}})
	m.Limits(24, []plan.Limits{{Max: 3, PerInstance: 1}})
	m.Upstreams([]session.Neighbour{{Name: "berths", Mode: plan.Replay}})
	for _, c := range []struct{ keys, want, shows string }{
		{"e down down", "", "at a time"},
		{"-", "Times:0.75 ", "berths"},
		{"0 . 5 enter", "Times:0.5 ", ""},
		{"0 enter", "", `"0" must be a factor`},
		{"right +", "P50:100ms P99:100ms ", ""},
		{"3 0 enter", "P50:30ms P99:30ms ", ""},
		{"right 4 0 0 m s enter", "P50:400ms P99:400ms ", ""},
		{"right +", "Fail:1000 ", ""},
		{"2 enter", "Fail:20000 ", ""},
		{"right +", "Status:500 ", ""},
		{"r e s e t enter", "Fault:reset", ""},
		{"right +", "Concurrency:1}", ""},
		{"right +", "Concurrency:1}", ""}, // there is no setting further right
		{"t", "", "berths"},
	} {
		got := ""
		for _, k := range strings.Fields(c.keys) {
			got = keyed(m, k)
		}
		got = strings.ReplaceAll(got, "Fault:1", "Fault:reset")
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("%s leads to %q, want %q", c.keys, got, c.want)
		}
		if pane := shown(m); !strings.Contains(pane, c.shows) {
			t.Errorf("after %s %q is not shown:\n%s", c.keys, c.shows, pane)
		}
	}
	for _, size := range [][2]int{{100, 30}, {80, 24}} {
		m.Resize(size[0], size[1])
		if pane := shown(m); !strings.Contains(pane, "berths") {
			t.Errorf("at %v the upstream is not shown:\n%s", size, pane)
		}
	}
}
