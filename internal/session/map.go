package session

import (
	"fmt"
	"slices"
	"strings"

	"nightdrill/internal/core/draw"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/text"
)

// WireOf identifies the wire of the project that a wire of its map shows.
type WireOf struct{ Source, Wire int }

// Map returns the map of a project: its own sources and functions with descriptions, and for each
// wire, where traffic is given, how many events went there.
func Map(p *plan.Expanded, t *Traffic) *draw.Wiring {
	w := &draw.Wiring{Title: p.Name + ": what reaches which function"}
	way := func(n int, what string, to int) draw.WiringWay {
		var then []string
		for _, w := range p.Sources[to].Wires {
			if f := p.Functions[w.To].Name; !slices.Contains(then, f) {
				then = append(then, f)
			}
		}
		return draw.WiringWay{N: n, What: what, To: p.Sources[to].Name, Then: strings.Join(then, ", ")}
	}
	for i := range p.Functions {
		if f := &p.Functions[i]; p.Of[i] == i {
			node := draw.WiringNode{Name: f.Name, About: fmt.Sprintf("at most %d at a time", f.Limits.Max),
				Lines: 1 + len(f.Then)}
			for k := range f.Then {
				node.Ways = append(node.Ways, way(t.sentOn(f.Name, k), "sent on", f.Then[k].To))
			}
			w.Functions = append(w.Functions, node)
		}
	}
	for i := range p.Sources {
		if p.From[i] != i {
			continue
		}
		node := draw.WiringNode{Name: p.Sources[i].Name, About: sourceLine(&p.Sources[i]), Lines: 1}
		if to := p.Sources[i].DeadLetter; to >= 0 {
			dead := 0
			if t != nil && i < len(t.Sources) {
				dead = t.Sources[i].DeadLettered
			}
			node.Lines, node.Ways = 2, append(node.Ways, way(dead, "dead letters", to))
		}
		w.Sources = append(w.Sources, node)
	}
	for _, x := range WiresOf(p) {
		src := &p.Sources[x.Source]
		wire := draw.WiringWire{Source: x.Source, Function: src.Wires[x.Wire].To, Counts: t.Wire(x).words()}
		if takes := src.WireWords(x.Wire); takes != "everything" {
			wire.Takes = takes
		}
		w.Wires = append(w.Wires, wire)
	}
	return w
}

// sourceLine describes in a few words what a source is.
func sourceLine(s *plan.Source) string {
	out := s.Kind.String()
	switch s.Kind {
	case plan.Storage:
		out += ", bucket " + s.Bucket
	case plan.Stream:
		out += fmt.Sprintf(", %s by %s", text.Plural(s.Partitions, "partition"), s.Key)
	case plan.Schedule:
		if len(s.Times) > 0 {
			out += ", " + s.Times[0].Text
		}
	}
	return out
}

// WiresOf returns the wires of a project's map, in its order.
func WiresOf(p *plan.Expanded) (out []WireOf) {
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
