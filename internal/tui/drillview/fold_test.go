package drillview

import (
	"fmt"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
)

// Every instance has a row of its own or is in exactly one band, those that run are never folded
// while there is room, and there are no more rows than there is room for.
func TestFold(t *testing.T) {
	for seed := range uint64(300) {
		r := rng.New(seed, 2)
		functions, rows := 1+r.Below(8), 1+r.Below(30)
		var lanes []*draw.Lane
		running := 0
		for fn := range functions {
			for n := range 1 + r.Below(30) {
				l := &draw.Lane{Instance: record.Instance{Function: int32(fn), Number: int32(n + 1)}}
				if r.Chance(3, 4) {
					l.Instance.Stopped = clock.Time(1 + r.Below(1000))
				} else {
					running++
				}
				lanes = append(lanes, l)
			}
		}
		if len(lanes) <= rows {
			continue
		}
		out := fold(lanes, rows, func(int32) string { return "f" })
		if len(out) > rows {
			t.Fatalf("seed %d: %d rows, there is room for %d", seed, len(out), rows)
		}
		seen := map[*draw.Lane]int{}
		last := int32(-1)
		for _, x := range out {
			all := x.band
			if x.lane != nil {
				all = []*draw.Lane{x.lane}
			}
			if fn := all[0].Instance.Function; len(out) > 1 && x.name[:min(len(x.name), 1)] != "+" {
				if fn < last {
					t.Fatalf("seed %d: function %d comes after %d", seed, fn, last)
				}
				last = fn
			}
			for _, l := range all {
				if seen[l]++; x.lane == nil && l.Instance.Stopped == 0 && running < rows-functions {
					t.Fatalf("seed %d: an instance that runs is folded", seed)
				}
			}
		}
		for _, l := range lanes {
			if seen[l] != 1 {
				t.Fatalf("seed %d: an instance is in %d rows", seed, seen[l])
			}
		}
	}
}

// The bars of use remember the most of the last two seconds, of each function and of all together.
func TestPeaksAreRemembered(t *testing.T) {
	r := &record.Run{ID: "x", Drill: "d", Length: at(5000),
		Functions: []record.Function{{Name: "quote", Max: 9}, {Name: "gate", Max: 9}},
		Levels: []record.Level{{At: at(1000), InFlight: 9}, {At: at(2900), InFlight: 8},
			{At: at(3100), InFlight: 4}, {At: at(3200), Function: 1, InFlight: 3}, {At: at(4000), InFlight: 1},
			{At: at(4500), Function: 1}}}
	m := New(&plan.Project{}, nil)
	m.Begin(&plan.Drill{Name: "d"}, r)
	m.Update(r, []engine.Stats{{InFlight: 1}, {}})
	if each, all := m.peaks(); each[0] != 4 || each[1] != 3 || all != 7 {
		t.Errorf("%v, together %d; want 4, 3 and 7", each, all)
	}
	m.Ended(r)
	if each, all := m.peaks(); each[0]+each[1]+all != 0 {
		t.Errorf("of a drill that is over: %v, %d", each, all)
	}
}

// The parts share the rows by need: together they fill the view, none has more than it needs, and each that
// needs any has some.
func TestShare(t *testing.T) {
	for seed := range uint64(400) {
		r := rng.New(seed, 5)
		run := sample(r.Below(40))
		for i := range r.Below(12) {
			run.Functions = append(run.Functions, record.Function{Name: fmt.Sprint("f", i), Max: 1, PerInstance: 1})
		}
		m := New(&plan.Project{}, nil)
		m.Resize(80+r.Below(100), 20+r.Below(40))
		m.Show(run)
		m.lower = r.Below(3)
		lower := m.lowerRows(m.window())
		got := m.share(len(lower), 0)
		sum := got.arrivals + got.lanes + got.lower + got.figures + 3
		if m.changesShown() {
			sum++
		}
		if m.lower < 2 && len(lower) > 0 {
			sum++
		}
		if m.lower < 1 {
			sum += 2
		}
		if sum != m.h {
			t.Fatalf("seed %d: %d rows are given in a view of %d: %+v", seed, sum, m.h, got)
		}
		if got.lanes < 1 || got.arrivals < min(1, len(m.arriving())) || m.lower < 1 && got.figures < 1 ||
			got.lower > len(lower) ||
			got.figures > m.figureRows() || got.arrivals > len(m.arriving()) {
			t.Fatalf("seed %d: %+v of %d lower, %d figures, %d sources", seed, got, len(lower), m.figureRows(),
				len(m.arriving()))
		}
		if pane := shown(m); strings.Count(pane, "── Instances") != 1 || m.lower < 1 && strings.Count(pane,
			"Latency, ms") != 1 {
			t.Fatalf("seed %d: a part has no title of its own:\n%s", seed, pane)
		}
	}
}
