// Package explain describes what happened to an event, or would happen: its steps, its
// attempts, its way over the map of the project, and the traffic on that map.
package explain

import (
	"fmt"
	"strings"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/runner"
)

// Step is one step of what happened to an event: a delivery to a function, or an
// event that none took.
type Step struct {
	Depth    int           // 0 for the event that was fired
	Origin   engine.Origin // how it came from the step before
	Source   string
	Kind     plan.Kind
	Label    string           // what went in, in a few words
	Payload  *payload.Payload // nil of a run's event whose payload is not there any more
	Wire     int              // -1 of an unmatched event
	Function string           // "" of an unmatched event
	Class    engine.Class
	Attempts int
	Tried    []Attempt // each of them that is over
	Outcome  engine.Outcome
	Over     bool
	Status   int           // of the last reply, 0 without one
	Out      []byte        // of the last reply, unpacked
	Waited   time.Duration // until it was first dispatched
	WaitsFor string        // what its source lets it wait for, in words
	Took     time.Duration // from when it came until its end, or until now
	Why      string        // what went wrong, in words
	Hint     string        // the usual mistake, where it looks like one
	Trials   []plan.WireTrial
}

// Label names a payload by what it is about, where it says so.
func Label(p *payload.Payload) string {
	if p.Event != nil && p.Event.Subject != "" {
		return p.Event.Type + " " + p.Event.Subject
	}
	return p.Label()
}

// HeldBack describes a reply that the network seems to have held back ([record.Invocation.HeldBack]).
const HeldBack = "the rest came about 40 ms after the first byte: the network may have held it back " + report.HoldsBack

// WhatWaits describes what a source lets its events wait for beside a free instance; "" for
// nothing.
func WhatWaits(src *plan.Source) string {
	var out []string
	if src.Poll > 0 {
		out = append(out, fmt.Sprintf("the poll, which comes every %v", text.Duration(src.Poll)))
	}
	if src.Delay > 0 {
		out = append(out, fmt.Sprintf("the delay of %v", text.Duration(src.Delay)))
	}
	if src.BatchWait > 0 && src.BatchMax > 1 {
		out = append(out, fmt.Sprintf("its batch to fill, up to %v", text.Duration(src.BatchWait)))
	}
	return strings.Join(out, ", and ")
}

// StepsOf returns the steps of one event: one for each wire that took it.
func StepsOf(p *plan.Expanded, t *runner.Trace, depth int, now clock.Time) (out []Step) {
	src := &p.Sources[t.Source]
	base := Step{Depth: depth, Origin: t.Origin, Source: src.Name, Kind: src.Kind, Label: Label(t.Payload),
		Payload: t.Payload, Wire: -1, Took: now.Sub(t.Arrived)}
	base.Trials, base.WaitsFor = p.Explain(t.Source, t.Payload), WhatWaits(src)
	if t.Routes == 0 {
		base.Over, base.Outcome, base.Took = true, engine.Unmatched, 0
		base.Why = p.NearestMiss(t.Source, t.Payload)
		base.Hint = doubled(t.Payload.Data())
		return []Step{base}
	}
	for w := range src.Wires {
		if t.Routes&(1<<w) == 0 {
			continue
		}
		x := base
		x.Function, x.Wire = p.Functions[src.Wires[w].To].Name, w
		for _, y := range t.Attempts {
			if int(y.Wire) != w {
				continue
			}
			if x.Attempts == 0 {
				x.Waited = y.Invocation.Assigned.Sub(t.Arrived)
			}
			x.Attempts, x.Class = max(x.Attempts, int(y.N)), y.Invocation.Class
			if y.Over {
				x.Tried = append(x.Tried, AttemptOf(y, t.Arrived))
			}
			if y.Why != "" || y.Result != engine.OK {
				if x.Why = y.Why; x.Why == "" {
					x.Why = y.Result.String()
				}
			} else {
				x.Why = ""
			}
			if y.Reply != nil {
				x.Status = y.Reply.Status
				x.Out, _ = y.Reply.Plain()
			}
		}
		for _, d := range t.Ended {
			if int(d.Wire) == w {
				x.Over, x.Outcome, x.Took = true, d.Outcome, d.Ended.Sub(t.Arrived)
			}
		}
		if x.Over && x.Outcome == engine.Skipped {
			x.Why = "skipped, since the function was still busy with an earlier one (while_running: drop)"
		}
		if bad := x.Status >= 400 || x.Over && x.Outcome != engine.Done; bad {
			x.Hint = doubled(t.Payload.Data())
		}
		out = append(out, x)
	}
	return out
}

// Attempt is one attempt of a step that is over.
type Attempt struct {
	N        int
	Instance string
	Class    engine.Class
	Result   engine.Result
	Status   int           // 0 without a reply
	At, Took time.Duration // from when the event came until it was dispatched, and from then on
	Why      string
}

// AttemptOf returns an attempt of an event that was received at a time.
func AttemptOf(y *runner.Attempt, came clock.Time) Attempt {
	return attemptOf(int(y.N), y.Result, &y.Invocation, came, y.Name, y.Why)
}

func attemptOf(n int, r engine.Result, inv *record.Invocation, came clock.Time, instance, why string) Attempt {
	return Attempt{N: n, Instance: instance, Class: inv.Class, Result: r, Status: int(inv.Status),
		At: inv.Assigned.Sub(came), Took: inv.Done.Sub(inv.Assigned), Why: why}
}

// Words returns how the attempt ended, in words.
func (t Attempt) Words() string {
	line := fmt.Sprintf("attempt %d: %v", t.N, t.Result)
	if t.Status > 0 {
		line += fmt.Sprintf(", status %d", t.Status)
	}
	if t.Took > 0 {
		line += fmt.Sprintf(", %v, at %v, took %v", t.Class, text.Measured(t.At), text.Measured(t.Took))
	}
	if t.Instance != "" {
		line += ", on " + t.Instance
	}
	if t.Why != "" {
		line += ": " + t.Why
	}
	return line
}

// doubled returns a hint about data that was encoded twice, or "".
func doubled(data []byte) string {
	place, ok := plan.Doubled(data)
	switch {
	case !ok:
		return ""
	case place != "":
		return place + " of the input is JSON inside a JSON string: the sender turned that member into text; " +
			"decode it with parse in a shape, or decode it twice"
	}
	return "the input is JSON inside a JSON string: it was encoded twice on its way, such as by a function " +
		"that turns its reply into text before it is encoded"
}

// Line is a step in one line.
func (x *Step) Line() string {
	to := "no wire takes it"
	if x.Function != "" {
		to = x.Function
	}
	line := fmt.Sprintf("%s → %s", x.Source, to)
	switch {
	case !x.Over:
		line += ", in progress"
	case x.Outcome != engine.Unmatched:
		line += ", " + x.Outcome.Words()
	}
	if x.Attempts > 1 {
		line += fmt.Sprintf(" after %d attempts", x.Attempts)
	}
	if x.Status > 0 {
		line += fmt.Sprintf(", status %d", x.Status)
	}
	if x.Function != "" {
		line += fmt.Sprintf(", %v", text.Measured(x.Took))
	}
	return line
}
