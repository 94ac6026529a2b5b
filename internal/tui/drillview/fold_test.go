package drillview

import (
	"testing"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/draw"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
	"nightdrill/internal/core/rng"
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
