package plan

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
)

// Of each divided wire that takes an event exactly one part does, for the same event always the same; the parts
// come to their shares, and two divided wires are independent of each other.
func TestShares(t *testing.T) {
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 1))
		src := Source{Name: "s", Kind: Queue}
		var groups [][2]int
		for range 1 + random.IntN(4) {
			first := len(src.Wires)
			if random.IntN(3) == 0 {
				src.Wires = append(src.Wires, Wire{})
				groups = append(groups, [2]int{first, first + 1})
				continue
			}
			for left := 100; left > 0; {
				share := min(left, 1+random.IntN(60))
				src.Wires = append(src.Wires, Wire{To: 1, Share: share})
				left -= share
			}
			groups = append(groups, [2]int{first, len(src.Wires)})
		}
		p := &Project{Sources: []Source{src}}
		const events = 4000
		n := make([]int, len(src.Wires))
		for i := range events {
			id := fmt.Sprintf("scan-%d", i/4)
			all := p.Routes(0, &payload.Payload{Event: &event.Event{ID: id}})
			takes := p.Divide(0, all, seed, id, i%4)
			if takes&^all != 0 || takes != p.Divide(0, all, seed, id, i%4) {
				t.Fatalf("seed %d: %b of %b", seed, takes, all)
			}
			for _, g := range groups {
				parts := 0
				for w := g[0]; w < g[1]; w++ {
					if takes&(1<<w) != 0 {
						n[w]++
						parts++
					}
				}
				if parts != 1 {
					t.Fatalf("seed %d: %d parts of a wire took an event", seed, parts)
				}
			}
		}
		for w := range src.Wires {
			share := float64(max(src.Wires[w].Share, 1)) / 100
			if src.Wires[w].Share == 0 {
				share = 1
			}
			// five standard deviations of a binomial count
			if off := math.Abs(float64(n[w]) - events*share); off > 5*math.Sqrt(events*share*(1-share))+1 {
				t.Errorf("seed %d: a share of %.2f took %d of %d", seed, share, n[w], events)
			}
		}
		if p.Divide(0, 0, seed, "x", 0) != 0 {
			t.Error("what no wire takes is taken by a part")
		}
	}
}

// An HTTP request goes to the first wire that takes it, to all parts of that one before it is divided; a variant
// that has a share is a function of its own, with one way to it and no second function for it.
func TestSharesOfRequests(t *testing.T) {
	p := &Project{
		Functions: []Function{{Name: "quote", Variants: []Function{{Name: "quote@node"}, {Name: "quote@small"}}},
			{Name: "quote@node"}},
		Sources: []Source{{Name: "fares", Wires: []Wire{{To: 0, Share: 90}, {To: 1, Share: 10}, {To: 0}}}},
	}
	if takes := p.Routes(0, &payload.Payload{Request: &event.Request{Method: "GET", Target: "/"}}); takes != 0b11 {
		t.Errorf("routes %b", takes)
	}
	s := Expand(p)
	if len(s.Functions) != 3 || s.Of[1] != 1 || s.Of[2] != 0 {
		t.Fatalf("functions %v of %v", s.Functions, s.Of)
	}
	for variant := 1; variant < 3; variant++ {
		way, ok := s.Way(0, variant)
		if !ok {
			t.Fatalf("there is no way to %s", s.Functions[variant].Name)
		}
		for _, w := range s.Sources[way].Wires {
			if w.To != variant {
				t.Errorf("the way to %s leads to %s", s.Functions[variant].Name, s.Functions[w.To].Name)
			}
		}
	}
	cold, _ := p.ColdPlan(&Drill{Feeds: []Feed{{Source: 0}}, Cold: &ColdStarts{N: 1, Cached: true}})
	names := ""
	for i := range cold.Functions {
		names += cold.Functions[i].Name + " "
	}
	if names != "quote quote@node quote@small " {
		t.Errorf("cold starts of %s", names)
	}
}

func BenchmarkDivide(b *testing.B) {
	p := &Project{Sources: []Source{{Name: "fares", Wires: []Wire{{Share: 90}, {Share: 10}}}}}
	for i := 0; b.Loop(); i++ {
		p.Divide(0, 3, 1, "scan-12345678", i)
	}
}
