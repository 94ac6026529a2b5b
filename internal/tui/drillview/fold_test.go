package drillview

import (
	"testing"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/draw"
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
