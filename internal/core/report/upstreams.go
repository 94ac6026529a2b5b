package report

import (
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
	muchCalling   = 0.3 // of the warm service time in calls to one upstream, for it to be the main cause
	someCalling   = 0.1 // likewise, for a sentence
	muchOfSlow    = 0.5 // of what the slow invocations take longer
	manyMoreCalls = 1.5 // times the usual calls after a failure
)

// CallRow is the calls of one function to one upstream.
type CallRow struct {
	Function, Upstream, Mode string
	measure.UpstreamFigures
}

// CallRows returns the calls of each function to each upstream, in the order of the functions.
func (p *Page) CallRows() (out []CallRow) {
	modes := map[string]string{}
	for _, u := range p.Summary.Upstreams {
		modes[u.Name] = u.Mode
	}
	for _, fn := range p.Functions {
		of := p.Summary.Functions[fn].Upstreams
		for _, name := range slices.Sorted(maps.Keys(of)) {
			out = append(out, CallRow{fn, name, modes[name], of[name]})
		}
	}
	return out
}

// ShareText formats a share that may be unknown as a percentage.
func ShareText(share *float64) string {
	if share == nil {
		return "–"
	}
	return figure.Percent(*share)
}

// CountText formats a mean number of calls; "–" where it is not known.
func CountText(n *float64) string {
	if n == nil {
		return "–"
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", *n), ".0")
}

// sayUpstreams reports what a function's calls to upstreams cost it.
func sayUpstreams(of *record.Function, f *measure.FunctionFigures, v voice) {
	names := slices.SortedFunc(maps.Keys(f.Upstreams), func(a, b string) int {
		return compareShares(f.Upstreams[b].Share, f.Upstreams[a].Share, a, b)
	})
	for i, name := range names {
		u := f.Upstreams[name]
		if u.Share != nil && *u.Share >= someCalling {
			text := fmt.Sprintf("%s: %s of its warm service time passes in calls to %s", of.Name,
				figure.Percent(*u.Share),
				name)
			if u.PerInvocation != nil {
				text += fmt.Sprintf(" (%s per invocation", plural(*u.PerInvocation, "call"))
				if u.Ms.P50 != nil {
					text += ", median " + msText(u.Ms.P50)
				}
				text += ")"
			}
			if own := f.Own; i == 0 && own != nil && own.Warm.P50 != nil {
				text += "; its own code takes " + msText(own.Warm.P50)
			}
			v.say("%s.", text)
			if *u.Share >= muchCalling {
				v.because(CallsUpstream, "%s in calls to %s", figure.Percent(*u.Share), name)
			}
		}
		if u.Slow != nil && *u.Slow >= muchOfSlow {
			v.say("%s: what makes its slowest invocations slow is %s: %s of what they take beyond the median.",
				of.Name, name,
				figure.Percent(*u.Slow))
		}
		sayFailing(of, name, &u, v)
	}
}

func compareShares(a, b *float64, nameA, nameB string) int {
	x, y := 0.0, 0.0
	if a != nil {
		x = *a
	}
	if b != nil {
		y = *b
	}
	switch {
	case x < y:
		return -1
	case x > y:
		return 1
	}
	return strings.Compare(nameA, nameB)
}

// plural writes a mean number of things.
func plural(n float64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return CountText(&n) + " " + what + "s"
}

// sayFailing reports how an upstream failed, and what the function did then.
func sayFailing(of *record.Function, name string, u *measure.UpstreamFigures, v voice) {
	if u.Missing > 0 {
		v.say("%s: %s to %s not in its recording and got status 502; the caveats name them.", of.Name,
			count(u.Missing, "call", "calls")+" "+wereWas(u.Missing), name)
		v.because(Fails, "%s not recorded", count(u.Missing, "call to "+name, "calls to "+name))
	}
	if failed := u.Failed - u.Missing; failed > 0 {
		text := fmt.Sprintf("%s: %d of %s to %s failed", of.Name, failed, count(u.Calls, "call", "calls"), name)
		if u.Planned > 0 {
			text += fmt.Sprintf(", %d of them on purpose", u.Planned)
		}
		if a := u.AfterFailure; a != nil && a.Invocations > 0 {
			switch {
			case a.Succeeded == a.Invocations:
				text += "; all " + count(a.Invocations, "invocation", "invocations") + " succeeded all the same"
			case a.Succeeded == 0:
				text += "; none of the " + count(a.Invocations, "invocation", "invocations") + " succeeded"
			default:
				text += fmt.Sprintf("; %d of %s succeeded all the same", a.Succeeded, count(a.Invocations, "invocation",
					"invocations"))
			}
		}
		v.say("%s.", text)
		v.because(BadReplies, "%s failed", count(failed, "call to "+name, "calls to "+name))
	}
	a := u.AfterFailure
	if a == nil {
		return
	}
	if a.Otherwise > 0 && a.CallsEach >= manyMoreCalls*a.Otherwise {
		v.say("%s calls %s again when it fails: %s in such an invocation, against %s, so it multiplies the load of a "+
			"service that is in trouble.", of.Name, name, plural(a.CallsEach, "call"), CountText(&a.Otherwise))
	}
	if a.Left > 0 && a.LeftAfter != nil {
		v.say("%s gave up waiting for %s %s, after %s (median).", of.Name, name, count(a.Left, "time", "times"),
			msText(a.LeftAfter))
	}
	if a.Outlived > 0 {
		v.say("%s: %s timed out while waiting for %s: it waits longer for the call than it may run.", of.Name,
			count(a.Outlived, "invocation", "invocations"), name)
		v.because(Fails, "timed out waiting for %s", name)
	}
}

func wereWas(n int) string {
	if n == 1 {
		return "was"
	}
	return "were"
}

// warnUpstreams returns what is to be kept in mind about the calls to upstreams.
func warnUpstreams(r *record.Run, s *measure.Summary) (out []string) {
	for i := range r.Upstreams {
		u := &r.Upstreams[i]
		calls, unknown, repeated := 0, 0, 0
		for _, name := range slices.Sorted(maps.Keys(s.Functions)) {
			x := s.Functions[name].Upstreams[u.Name]
			calls, unknown, repeated = calls+x.Calls, unknown+x.Unknown, repeated+x.Repeated
		}
		if repeated > 0 {
			out = append(out, fmt.Sprintf("%s: %s got a recorded reply once more, since the recording had no "+
				"other for them", u.Name, count(repeated, "call", "calls")))
		}
		if unknown > 0 {
			out = append(out, fmt.Sprintf("%s: of %s it is not known for which invocation they were made, since an "+
				"instance "+
				"had several in progress; a function that passes traceparent on tells", u.Name, count(unknown, "call",
				"calls")))
		}
		switch quiet := calls == 0 && len(r.Invocations) > 0 && !r.Filtered; {
		case quiet && u.Proxy:
			out = append(out, fmt.Sprintf("%s received no calls through the proxy. Clients that ignore its variables: "+
				"Python's http.client, and aiohttp unless it is told; Node before 24 (fetch, http, undici; axios "+
				"obeys "+
				"them); Java other than by JAVA_TOOL_OPTIONS. Go and Java never call loopback names through a proxy. "+
				"An address of its own (env) works for all", u.Name))
		case quiet:
			out = append(out, fmt.Sprintf("%s received no calls; does the function use the address that it is given?",
				u.Name))
		}
		if b := u.Behaviour.String(); b != "" {
			out = append(out, fmt.Sprintf("the stand-in for %s was told to behave otherwise: %s", u.Name, b))
		}
		if u.Mode == "pass" && u.Behaviour.Times > 0 && u.Behaviour.Times < 1 {
			out = append(out, fmt.Sprintf("%s: calls that are passed on cannot be made faster (latency × %.3g); "+
				"only recorded ones can", u.Name, u.Behaviour.Times))
		}
	}
	if r.CallsLost > 0 {
		out = append(out, fmt.Sprintf("%d calls to upstreams were not recorded, as there were too many", r.CallsLost))
	}
	return out
}

// upstreamsDiffer returns how the upstreams of two runs worked differently, or "".
func upstreamsDiffer(a, b *record.Run) string {
	how := func(r *record.Run, name string) string {
		for _, u := range r.Upstreams {
			if u.Name == name {
				parts := []string{u.Mode}
				if b := u.Behaviour.String(); b != "" {
					parts = append(parts, b)
				}
				return text.List(parts)
			}
		}
		return "none"
	}
	var names, out []string
	for _, u := range slices.Concat(a.Upstreams, b.Upstreams) {
		if !slices.Contains(names, u.Name) {
			names = append(names, u.Name)
		}
	}
	for _, name := range names {
		if x, y := how(a, name), how(b, name); x != y {
			out = append(out, fmt.Sprintf("%s (%s against %s)", name, x, y))
		}
	}
	if out == nil {
		return ""
	}
	return "upstreams worked differently: " + text.List(out)
}
