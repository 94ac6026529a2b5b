package desk

import (
	"nightdrill/internal/core/draw"
	"nightdrill/internal/core/plan"
)

// WireOf says which wire of the project a wire of its map is.
type WireOf struct{ Source, Wire int }

// Map gives the map of a project: its own sources and functions, with room for
// what is said of each.
func Map(p *plan.Standing) *draw.Wiring {
	w := &draw.Wiring{}
	for i := range p.Functions {
		if p.Of[i] == i {
			w.Functions = append(w.Functions, draw.WiringNode{Name: p.Functions[i].Name, Lines: 1 + len(p.Functions[i].Then)})
		}
	}
	for i := range p.Sources {
		if p.From[i] != i {
			continue
		}
		below := 1
		if p.Sources[i].DeadLetter >= 0 {
			below = 2
		}
		w.Sources = append(w.Sources, draw.WiringNode{Name: p.Sources[i].Name, Lines: below})
	}
	for _, x := range WiresOf(p) {
		w.Wires = append(w.Wires, draw.WiringWire{Source: x.Source, Function: p.Sources[x.Source].Wires[x.Wire].To})
	}
	return w
}

// WiresOf gives the wires of a project's map, in its order.
func WiresOf(p *plan.Standing) (out []WireOf) {
	for i := range p.Sources {
		if p.From[i] != i {
			continue
		}
		for k := range p.Sources[i].Wires {
			out = append(out, WireOf{i, k})
		}
	}
	return out
}
