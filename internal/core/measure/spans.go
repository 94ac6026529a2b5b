package measure

import (
	"cmp"
	"slices"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// SpanFigures are the spans of one name that a function sent.
type SpanFigures struct {
	N      int `json:"n"`
	Failed int `json:"failed"`
	// PerInvocation is the mean of an invocation that has any.
	PerInvocation float64 `json:"per_invocation"`
	Ms            Figures `json:"ms"`
	// Share is the part of the warm service time that passes in them, from 0 to 1; nil without a warm invocation that
	// sent spans.
	Share *float64 `json:"share_of_warm_service"`
	// Own is the part that passes in them and in no span below them; likewise.
	Own *float64 `json:"own_share_of_warm_service"`
}

// mostSpanFigures bounds the names of spans that figures are made of, of each function: those with the most time.
const mostSpanFigures = 50

// spanFigures enters the figures of the spans that functions sent.
func spanFigures(r *record.Run, at []int32, s *Summary, populations []Populations) {
	if len(r.Spans) == 0 && !slices.ContainsFunc(r.Functions, func(f record.Function) bool { return f.Spans }) {
		return
	}
	byInvocation := map[uint64][]int32{}
	for i := range r.Spans {
		byInvocation[r.Spans[i].Invocation] = append(byInvocation[r.Spans[i].Invocation], int32(i))
	}
	names := spanNames(r)
	for fn := range r.Functions {
		f := s.Functions[r.Functions[fn].Name]
		f.Spans = functionSpans(r, at, int32(fn), byInvocation, names, &populations[fn])
		s.Functions[r.Functions[fn].Name] = f
	}
}

// spanKinds are the kinds of spans, by their numbers (trace/v1).
var spanKinds = []string{"", "internal", "server", "client", "producer", "consumer"}

// spanNames returns the name of each span: with its kind, where a function has spans of several kinds by one name, as
// clients and servers of HTTP do.
func spanNames(r *record.Run) []string {
	type named struct{ function, name int32 }
	kind := map[named]int{} // -1 for several
	for i := range r.Spans {
		x := &r.Spans[i]
		k := named{x.Function, x.Name}
		if was, known := kind[k]; known && was != int(x.Kind) {
			kind[k] = -1
		} else if !known {
			kind[k] = int(x.Kind)
		}
	}
	out := make([]string, len(r.Spans))
	for i := range r.Spans {
		x := &r.Spans[i]
		out[i] = r.SpanName(x)
		if kind[named{x.Function, x.Name}] < 0 && int(x.Kind) < len(spanKinds) && x.Kind > 0 {
			out[i] += " (" + spanKinds[x.Kind] + ")"
		}
	}
	return out
}

// spanTotals is what is collected of the spans of one name.
type spanTotals struct {
	SpanFigures
	name        string
	all         stats.Population
	invocations int
	whole, own  time.Duration // of warm invocations
}

func functionSpans(r *record.Run, at []int32, fn int32, byInvocation map[uint64][]int32, called []string,
	populations *Populations) map[string]SpanFigures {
	out := map[string]SpanFigures{}
	totals := map[string]*spanTotals{}
	warm := time.Duration(0) // of invocations with spans
	ids := make([]uint64, 0, len(byInvocation))
	for id, spans := range byInvocation {
		if r.Spans[spans[0]].Function == fn {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	for _, id := range ids {
		spans := byInvocation[id]
		v := r.Invocation(at, id)
		counted := v != nil && v.Class == engine.Warm && v.Result == engine.OK
		if counted {
			warm += v.Done.Sub(v.Began())
		}
		covered := map[string][]span{}
		children := map[uint64][]span{}
		for _, k := range spans {
			x := &r.Spans[k]
			children[x.Parent] = append(children[x.Parent], span{x.Begin, x.End})
		}
		own := map[string]time.Duration{}
		for _, k := range spans {
			x := &r.Spans[k]
			name := called[k]
			t := totals[name]
			if t == nil {
				t = &spanTotals{name: name}
				totals[name] = t
			}
			if t.N++; x.Failed {
				t.Failed++
			}
			t.all.AddTo(id, x.End.Sub(x.Begin))
			if covered[name] == nil {
				t.invocations++
			}
			in := span{x.Begin, x.End}
			if v != nil {
				in = in.within(span{v.Began(), v.Done})
			}
			if in.empty() {
				in.to = in.from
			}
			covered[name] = append(covered[name], in)
			var below []span
			for _, c := range children[x.ID] {
				if c = c.within(in); !c.empty() {
					below = append(below, c)
				}
			}
			own[name] += in.to.Sub(in.from) - union(below)
		}
		if counted {
			for name, all := range covered {
				totals[name].whole += union(all)
				totals[name].own += own[name]
			}
		}
	}
	names := make([]*spanTotals, 0, len(totals))
	for _, t := range totals {
		names = append(names, t)
	}
	slices.SortFunc(names, func(a, b *spanTotals) int {
		return cmp.Or(cmp.Compare(b.whole, a.whole), cmp.Compare(b.N, a.N), cmp.Compare(a.name, b.name))
	})
	for _, t := range names[:min(len(names), mostSpanFigures)] {
		f := t.SpanFigures
		f.Ms = figures(&t.all, stats.Serial)
		f.PerInvocation = float64(f.N) / float64(max(t.invocations, 1))
		if warm > 0 {
			share, own := float64(t.whole)/float64(warm), float64(min(t.own, t.whole))/float64(warm)
			f.Share, f.Own = &share, &own
		}
		out[t.name] = f
		populations.named("span "+t.name, &t.all)
	}
	return out
}
