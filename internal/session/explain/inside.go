package explain

import (
	"cmp"
	"fmt"
	"slices"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/runner"
)

// Inside is something that happened during an invocation: a call to an upstream, or a span.
type Inside struct {
	Name     string // of the upstream, or the span
	Label    string // of a call: its request line
	Note     string // of a call: its status, or how it failed, and where the reply came from
	From, To clock.Time
	Depth    int // of a span below others
	Call     bool
	Bad      bool
}

// mostInside bounds what is listed of one invocation.
const mostInside = 200

// InsideOf returns what happened during an attempt, in the order of time; spans are followed by those below them, and a
// call by the span within which it was made.
func InsideOf(t *runner.Attempt) (out []Inside) {
	type node struct {
		Inside
		id, parent uint64
	}
	var all []node
	for i := range t.Spans {
		s := &t.Spans[i]
		all = append(all, node{Inside{Name: s.Name, From: s.Begin, To: s.End, Bad: s.Failed}, s.ID, s.Parent})
	}
	spans := len(all)
	for i := range t.Calls {
		c := &t.Calls[i]
		n := node{Inside: Inside{Name: c.Name, Label: c.Label, Note: CallNote(&c.Call), From: c.Began, To: c.Done,
			Call: true, Bad: c.Bad()}}
		least := clock.Time(1<<62 - 1)
		for k := range all[:spans] { // the shortest span around it
			if s := &all[k]; s.From <= c.Began+slack && s.To+slack >= c.Done && s.To-s.From < least {
				n.parent, least = s.id, s.To-s.From
			}
		}
		all = append(all, n)
	}
	slices.SortStableFunc(all, func(a, b node) int { return cmp.Compare(a.From, b.From) })
	known := map[uint64]bool{}
	for i := range all {
		known[all[i].id] = all[i].id != 0
	}
	var put func(parent uint64, depth int)
	put = func(parent uint64, depth int) {
		for i := range all {
			n := &all[i]
			below := known[n.parent] && n.parent != n.id
			if len(out) >= mostInside || parent == 0 && below || parent != 0 && (n.parent != parent || !below) {
				continue
			}
			n.Depth = depth
			out = append(out, n.Inside)
			if !n.Call && depth < mostDepth {
				put(n.id, depth+1)
			}
		}
	}
	put(0, 0)
	return out
}

const (
	slack     = clock.Time(2e6) // by how much a call may lie outside of its span: they have two clocks
	mostDepth = 20
)

// InsideRun returns what happened during an invocation of a run, as InsideOf does.
func InsideRun(r *record.Run, invocation uint64) []Inside {
	t := &runner.Attempt{}
	for _, c := range r.CallsOf(invocation) {
		t.Calls = append(t.Calls, runner.Call{Call: c, Name: r.Upstreams[c.Upstream].Name, Label: r.CallLabel(&c)})
	}
	for i := range r.Spans {
		if s := &r.Spans[i]; s.Invocation == invocation {
			t.Spans = append(t.Spans, runner.Span{Span: *s, Name: r.SpanName(s)})
		}
	}
	return InsideOf(t)
}

// CallNote returns what became of a call in a few words.
func CallNote(c *record.Call) string {
	note := ""
	switch {
	case c.Failed != record.CallAnswered:
		note = c.Failed.String()
	case c.Status > 0:
		note = fmt.Sprintf("status %d", c.Status)
	}
	switch {
	case c.OnPurpose:
		note += ", on purpose"
	case c.Way == record.CallReplayed && c.Repeated:
		note += ", replayed once more"
	case c.Way == record.CallReplayed, c.Way == record.CallRecorded:
		note += ", " + c.Way.String()
	case c.Way == record.CallMissing:
		note += ", not in the recording"
	}
	if c.Among > 1 {
		note += fmt.Sprintf(", of one of %d in progress", c.Among)
	}
	return note
}
