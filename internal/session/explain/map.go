package explain

import (
	"fmt"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
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
				Lines: 1}
			if plan.BaseName(f.Name) != f.Name {
				node.About += ", a variant" // what its replies are sent on as counts there
				w.Functions = append(w.Functions, node)
				continue
			}
			node.Lines += len(f.Then)
			for k := range f.Then {
				node.Ways = append(node.Ways, way(t.sentOn(f.Name, k), "sent on", f.Then[k].To))
			}
			for _, source := range f.Publishes() {
				if to := p.SourceNamed(source); to >= 0 {
					node.Lines++
					node.Ways = append(node.Ways, way(t.published(f.Name, to), "publishes", to))
				}
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
	if at := s.Fed(); at != nil {
		out += ", from " + at.Broker
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

// SourceWords describes in a line what a source is and by which rules it delivers.
func SourceWords(p *plan.Project, s *plan.Source) string {
	out := s.Kind.String()
	switch {
	case s.Taken != nil:
		out += ", taken from " + s.Taken.Broker
	case s.Copied != nil:
		out += ", copied from " + s.Copied.Broker
	}
	switch s.Kind {
	case plan.HTTP:
		if s.Wait == 0 {
			out += ", rejected at once when no instance is free"
		} else {
			out += fmt.Sprintf(", rejected after waiting %v for an instance", text.Duration(s.Wait))
		}
		if s.Token != "" {
			out += ", with a bearer token"
		}
		if s.CORS != nil {
			out += ", open to pages of " + strings.Join(s.CORS.Origins, ", ")
		}
		return out
	case plan.Storage:
		out += ", bucket " + s.Bucket
		if s.Folder != "" {
			out += ", the files of a folder"
		}
		if s.Poll > 0 {
			out += fmt.Sprintf(", found by a poll every %v", text.Duration(s.Poll))
		}
	case plan.Stream:
		out += fmt.Sprintf(", %s by %s", text.Plural(s.Partitions, "partition"), s.Key)
	case plan.Schedule:
		for i := range s.Times {
			t := &s.Times[i]
			if t.Interval() > 0 {
				out += fmt.Sprintf(", every %v", text.Duration(t.Interval()))
			} else {
				out += fmt.Sprintf(", %s in %s", t.Text, t.Zone)
			}
		}
		out += ", " + [...]string{"skipped", "waiting", "beside it"}[s.WhileRunning] + " while an earlier one runs"
	}
	if s.BatchMax > 1 {
		out += fmt.Sprintf(", batches of up to %d or after %v", s.BatchMax, text.Duration(s.BatchWait))
	}
	if s.Kind == plan.Queue && s.Key != "" {
		out += ", in order by " + s.Key
	}
	if s.LeaseMost > 0 {
		out += fmt.Sprintf(", a lease of %v extended up to %v", text.Duration(s.Lease), text.Duration(s.LeaseMost))
	}
	if len(s.Wires) > 0 {
		out += ", " + text.Plural(s.Attempts, "attempt")
		if s.OnFailure == plan.Split {
			out += ", then halved to find the bad record"
		}
		if s.DeadLetter >= 0 {
			out += ", then to " + p.Sources[s.DeadLetter].Name
		}
	}
	return out
}
