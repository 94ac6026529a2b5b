package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
)

const (
	muchSpanned = 0.3 // of the warm service time in the spans of one name, for a sentence
	likeALoop   = 3   // spans of one name in an invocation
)

// SpanRow is the spans of one name of a function.
type SpanRow struct {
	Function, Name string
	measure.SpanFigures
}

// SpanRows returns the spans of the functions, those with the most time first.
func (p *Page) SpanRows() (out []SpanRow) {
	for _, fn := range p.Functions {
		of := p.Summary.Functions[fn].Spans
		names := slices.SortedFunc(maps.Keys(of), func(a, b string) int {
			return cmp.Or(compareShares(of[b].Share, of[a].Share, "", ""), cmp.Compare(of[b].N, of[a].N),
				strings.Compare(a, b))
		})
		for _, name := range names {
			out = append(out, SpanRow{fn, name, of[name]})
		}
	}
	return out
}

// saySpans reports what most of a function's time passes in, by its spans: not one that only holds others.
func saySpans(of *record.Function, f *measure.FunctionFigures, v voice) {
	most, share := "", 0.0
	for _, name := range slices.Sorted(maps.Keys(f.Spans)) {
		x := f.Spans[name]
		if x.Own != nil && *x.Own >= muchSpanned && *x.Own > share {
			most, share = name, *x.Own
		}
	}
	for _, name := range slices.Sorted(maps.Keys(f.Spans)) {
		x := f.Spans[name]
		if name != most && x.PerInvocation >= likeALoop && x.Share != nil && *x.Share >= someCalling {
			v.say("%s: “%s” comes %s times per invocation, %s of its warm service time: a loop?", of.Name,
				text.Harmless(name), CountText(&x.PerInvocation), figure.Percent(*x.Share))
		}
	}
	if most == "" {
		return
	}
	x := f.Spans[most]
	words := fmt.Sprintf("%s: “%s” takes %s of its warm service time", of.Name, text.Harmless(most),
		figure.Percent(share))
	if x.PerInvocation > 1 {
		words += fmt.Sprintf(", %s times per invocation", CountText(&x.PerInvocation))
	}
	if x.PerInvocation >= likeALoop {
		words += ": a loop?"
	} else {
		words += "."
	}
	v.say("%s", words)
	v.because(CallsUpstream, "%s in “%s”", figure.Percent(share), text.Harmless(most))
}

// killed is how a process ended that did not end on SIGTERM.
const killed = "killed by signal 9"

// warnSpans returns what is to be kept in mind about spans.
func warnSpans(r *record.Run) (out []string) {
	for fn := range r.Functions {
		f := &r.Functions[fn]
		if !f.Spans {
			continue
		}
		survived, sent := 0, false
		for i := range r.Instances {
			in := &r.Instances[i]
			if int(in.Function) == fn && in.Ready > 0 && strings.HasPrefix(in.Exit, killed) {
				survived++
			}
		}
		sent = slices.ContainsFunc(r.Spans, func(s record.Span) bool { return int(s.Function) == fn })
		switch {
		case survived > 0:
			out = append(out, fmt.Sprintf("%s: %s did not end on SIGTERM and had to be killed; instrumentation "+
				"often takes "+
				"the signal and does not end the process", f.Name, count(survived, "instance", "instances")))
		case !sent && r.Asked(fn) && !r.Filtered:
			out = append(out, fmt.Sprintf("%s sent no spans; is it instrumented, and does its exporter use OTLP "+
				"over HTTP?",
				f.Name))
		}
		if sent {
			out = append(out, f.Name+" was instrumented, which costs time of its own at each start and each call; "+
				"compare "+
				"it with runs that were, too")
		}
	}
	m := r.SpansMissed
	for _, x := range []struct {
		n    int
		what string
	}{{m.Dropped, "belonged to traces for which there was no room"},
		{m.Unknown, "belonged to traces of nothing that was invoked here, such as a start"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%s %s, and were not kept", count(x.n, "span", "spans"), x.what))
		}
	}
	if m.Refused > 0 {
		out = append(out, fmt.Sprintf("%s with spans could not be read", count(m.Refused, "request", "requests")))
	}
	return out
}

// spansDiffer returns that one of two runs had spans and the other had not, or "".
func spansDiffer(a, b *record.Run) string {
	for i := range a.Functions {
		k := b.Function(a.Functions[i].Name)
		if k >= 0 && a.Functions[i].Spans != b.Functions[k].Spans {
			return fmt.Sprintf("%s sent spans in one run and not in the other: instrumentation costs time of its "+
				"own, so "+
				"their times are not comparable", a.Functions[i].Name)
		}
	}
	return ""
}
