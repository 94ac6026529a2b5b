package session

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
	"nightdrill/internal/core/route"
	"nightdrill/internal/core/text"
)

// Notable is an event of a run that is worth following.
type Notable struct {
	Event  int64
	Source string
	Label  string
	What   string // why it is notable
	Dead   bool   // it was dead-lettered
	Reply  int32  // of a dead letter, the number of its last reply's bytes; 0 for none
}

// mostNotable bounds the events of one kind that are listed.
const mostNotable = 30

// NotableEvents lists the events of a run that did not simply succeed: unmatched, dead-lettered,
// rejected, expired, skipped, retried, and chains.
func NotableEvents(r *record.Run) (out []Notable) {
	add := func(event int64, what string) *Notable {
		a := &r.Arrivals[event]
		out = append(out, Notable{Event: event, Source: r.Sources[a.Source].Name, Label: r.Payloads[a.Payload].Label,
			What: what})
		return &out[len(out)-1]
	}
	last := map[uint64][]int{} // dead letters by their last invocation
	for _, o := range []engine.Outcome{engine.Unmatched, engine.DeadLettered, engine.Failed, engine.Expired,
		engine.Skipped, engine.Rejected, engine.Abandoned} {
		n := 0
		for i := range r.Deliveries {
			if d := &r.Deliveries[i]; d.Outcome == o && n < mostNotable && int(d.Event) < len(r.Arrivals) {
				n++
				x := add(d.Event, outcomeWord(o))
				if o == engine.DeadLettered {
					x.Dead = true
					x.What += ", " + text.Plural(int(d.Attempts), "attempt")
					last[d.Invocation] = append(last[d.Invocation], len(out)-1)
				}
			}
		}
		for i := 0; i < len(r.Invocations) && len(last) > 0; i++ {
			v := &r.Invocations[i]
			for _, at := range last[v.ID] {
				out[at].What, out[at].Reply = out[at].What+", "+lastly(int(v.Status), v.Result), v.Reply
			}
		}
		clear(last)
	}
	n := 0
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.Origin == engine.FromReply && n < mostNotable {
			if root := rootOf(r, int64(i)); !slices.ContainsFunc(out, func(x Notable) bool {
				return x.Event == root &&
					x.What == "a chain"
			}) {
				n++
				add(root, "a chain")
			}
		}
	}
	n = 0
	for i := range r.Deliveries {
		if d := &r.Deliveries[i]; d.Outcome == engine.Done && d.Attempts > 1 && n < mostNotable &&
			int(d.Event) < len(r.Arrivals) {
			n++
			add(d.Event, fmt.Sprintf("done after %d attempts", d.Attempts))
		}
	}
	return out
}

// lastly describes how the last attempt of a dead letter ended.
func lastly(status int, result engine.Result) string {
	switch {
	case status > 0 && (result == engine.OK || result == engine.BadStatus):
		return fmt.Sprintf("last: status %d", status)
	case status > 0:
		return fmt.Sprintf("last: %v, status %d", result, status)
	}
	return fmt.Sprintf("last: %v", result)
}

// DeadLetter describes a firing that was dead-lettered: its attempts, and the last reply.
func (v *Shown) DeadLetter() string {
	tries, last := 0, v.Last()
	if last == nil {
		return ""
	}
	for _, t := range v.Trace.Attempts {
		tries = max(tries, int(t.N))
	}
	status, reply := 0, []byte(nil)
	if last.Reply != nil {
		status = last.Reply.Status
		reply, _ = last.Reply.Plain()
	}
	return text.Plural(tries, "attempt") + ", " + lastly(status, last.Result) + Beginning(reply)
}

// Beginning returns the beginning of a reply for a list, after a colon; "" for none.
func Beginning(reply []byte) string {
	text := strings.Join(strings.Fields(string(reply)), " ")
	if text == "" || !utf8.ValidString(text) {
		return ""
	}
	return ": " + payload.Short(text, 80)
}

func rootOf(r *record.Run, event int64) int64 {
	for r.Arrivals[event].From >= 0 && r.Arrivals[event].From < event {
		event = r.Arrivals[event].From
	}
	return event
}

// RunSteps returns the steps of a run's event, as Trace does for a firing. blob returns the bytes
// that the run kept by their number.
func RunSteps(p *plan.Project, r *record.Run, event int64, blob func(int32) []byte) (out []Step) {
	made := map[int64][]int64{}
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.From >= 0 && a.Origin != engine.FromFault {
			made[a.From] = append(made[a.From], int64(i))
		}
	}
	var walk func(event int64, depth int)
	walk = func(event int64, depth int) {
		a := &r.Arrivals[event]
		base := Step{Depth: depth, Origin: a.Origin, Source: r.Sources[a.Source].Name, Wire: -1,
			Label: r.Payloads[a.Payload].Label}
		base.Kind = plan.Kind(max(slices.Index(plan.Kinds, r.Sources[a.Source].Kind), 0))
		at := p.SourceNamed(base.Source)
		if base.Payload = payloadOf(p, &r.Payloads[a.Payload]); base.Payload != nil && at >= 0 {
			base.Payload = AsObject(&p.Sources[at], base.Payload)
			base.Label = labelOf(base.Payload)
			base.Trials = p.Explain(at, base.Payload)
		}
		if at >= 0 {
			base.WaitsFor = WhatWaits(&p.Sources[at])
		}
		for i := range r.Deliveries {
			d := &r.Deliveries[i]
			if d.Event != event {
				continue
			}
			x := base
			x.Over, x.Outcome, x.Wire, x.Attempts, x.Took = true, d.Outcome, int(d.Wire), int(d.Attempts),
				d.Ended.Sub(a.Due)
			if d.Wire >= 0 && int(d.Wire) < len(r.Sources[d.Source].To) {
				x.Function = r.Functions[r.Sources[d.Source].To[d.Wire]].Name
			}
			first := true
			for k := range r.Attempts {
				t := &r.Attempts[k]
				if t.Event != event || t.Wire != d.Wire {
					continue
				}
				for v := range r.Invocations {
					if inv := &r.Invocations[v]; inv.ID == t.Invocation {
						x.Status, x.Class = int(inv.Status), inv.Class
						if _, body, ok := bytes.Cut(blob(inv.Reply), []byte("\n\n")); ok {
							x.Out = body
						}
						x.Tried = append(x.Tried, attemptOf(int(t.N), t.Result, inv, a.Due, "", ""))
						if first {
							x.Waited, first = inv.Assigned.Sub(a.Due), false
						}
					}
				}
				if x.Why = ""; t.Result != engine.OK {
					x.Why = t.Result.String()
				}
			}
			if d.Outcome == engine.Unmatched && base.Payload != nil && at >= 0 {
				x.Why = p.NearestMiss(at, base.Payload)
			}
			out = append(out, x)
		}
		for _, m := range made[event] {
			walk(m, depth+1)
		}
	}
	walk(event, 0)
	return out
}

// payloadOf finds what was sent in the project's sets; nil if it is not there.
func payloadOf(p *plan.Project, x *record.Payload) *payload.Payload {
	if i := p.SetNamed(x.Set); i >= 0 && x.N >= 1 && x.N <= len(p.Sets[i].Payloads) {
		return &p.Sets[i].Payloads[x.N-1]
	}
	return nil
}

func outcomeWord(o engine.Outcome) string {
	return map[engine.Outcome]string{engine.Done: "done", engine.Failed: "failed", engine.DeadLettered: "dead-lettered",
		engine.Rejected: "rejected", engine.Expired: "expired",
		engine.Skipped: "skipped", engine.Unmatched: "no wire takes it", engine.Abandoned: "open at the end"}[o]
}

// Stop is a place on the map at which an event was, or would be: at a source, on
// a wire, at a function.
type Stop struct {
	Source, Wire, Function string // names; Wire is the place of the source's wire, from 1
	Near                   string // of an unmatched event: the wire that came closest, as Wire
	// of a reply that is sent on: the function; of a dead letter: the source that dead-lettered it
	By    string
	Text  string
	Lines []string
	Bad   bool
	Dead  bool // it was dead-lettered
}

// Journey makes stops of steps, in their order.
func Journey(steps []Step) (out []Stop) {
	for i := range steps {
		x := &steps[i]
		again := i > 0 && steps[i-1].Depth == x.Depth && steps[i-1].Label == x.Label && steps[i-1].Source == x.Source
		if !again {
			how, by := "arrives at", ""
			var before Step
			for _, y := range steps[:i] {
				if y.Depth == x.Depth-1 {
					before = y
				}
			}
			switch x.Origin {
			case engine.FromReply:
				how, by = "the reply goes on to", before.Function
			case engine.FromDeadLetter:
				how, by = "is dead-lettered to", before.Source
			}
			out = append(out, Stop{Source: x.Source, By: by, Text: fmt.Sprintf("%s %s: %s", how, x.Source, x.Label)})
		}
		if x.Wire < 0 {
			s := Stop{Source: x.Source, Text: "no wire of " + x.Source + " takes it", Bad: x.Over &&
				x.Outcome == engine.Unmatched}
			if x.Over && !s.Bad {
				s.Text = outcomeWord(x.Outcome)
			}
			if s.Bad && len(x.Trials) > 0 {
				var conditions [][]route.Trial
				for _, t := range x.Trials {
					conditions = append(conditions, t.Conditions)
				}
				s.Near = fmt.Sprint(route.Nearest(conditions) + 1)
			}
			s.Lines = trialLines(x, -1)
			if why := x.Why; len(x.Trials) != 1 || !s.Bad { // of one wire all is said
				s.Lines = appendTexts(s.Lines, why)
			}
			s.Lines = appendTexts(s.Lines, x.Hint)
			out = append(out, s)
			continue
		}
		wire := fmt.Sprint(x.Wire + 1)
		into := ""
		if x.Payload != nil && x.Payload.Size() > 0 {
			into = "in   " + payload.Line(x.Payload.Data(), 300)
		}
		out = append(out, Stop{Source: x.Source, Wire: wire, Text: fmt.Sprintf("the wire to %s takes it", x.Function),
			Lines: appendTexts(trialLines(x, x.Wire), waitedFor(x), into)})
		end := Stop{Source: x.Source, Wire: wire, Function: x.Function, Text: x.Function + ": in progress"}
		if x.Over {
			end.Text = fmt.Sprintf("%s: %s", x.Function, outcomeWord(x.Outcome))
			end.Bad, end.Dead = x.Outcome != engine.Done, x.Outcome == engine.DeadLettered
			if x.Attempts > 0 {
				end.Text += fmt.Sprintf(", %v, %v in total", x.Class, text.Duration(x.Took.Round(10_000)))
			}
		}
		if x.Status > 0 {
			end.Text += fmt.Sprintf(", status %d", x.Status)
		}
		if x.Attempts > 1 {
			end.Lines = append(end.Lines, fmt.Sprintf("it took %d attempts", x.Attempts))
			for _, t := range x.Tried {
				end.Lines = append(end.Lines, t.Words())
			}
		}
		if len(x.Out) > 0 {
			end.Lines = append(end.Lines, "out  "+payload.Line(x.Out, 300))
		}
		end.Lines = appendTexts(end.Lines, x.Why, x.Hint)
		out = append(out, end)
	}
	return out
}

// Would returns the stops of an event without sending it: where it would go.
func Would(p *plan.Project, source int, pl *payload.Payload) []Stop {
	x := Step{Source: p.Sources[source].Name, Label: labelOf(pl), Payload: pl, Wire: -1, Trials: p.Explain(source, pl)}
	if miss := p.NearestMiss(source, pl); miss != "" {
		x.Over, x.Outcome, x.Why = true, engine.Unmatched, miss
		x.Hint = doubled(pl.Data())
		return Journey([]Step{x})
	}
	var out []Stop
	for _, t := range x.Trials {
		if !t.Takes {
			continue
		}
		to := p.Functions[p.Sources[source].Wires[t.Wire].To].Name
		if out == nil {
			out = append(out, Stop{Source: x.Source, Text: "would arrive at " + x.Source + ": " + x.Label})
		}
		wire := fmt.Sprint(t.Wire + 1)
		out = append(out, Stop{Source: x.Source, Wire: wire, Text: "the wire to " + to + " would take it",
			Lines: trialLines(&x, t.Wire)},
			Stop{Source: x.Source, Wire: wire, Function: to, Text: to + " would get it"})
	}
	return out
}

func appendTexts(lines []string, texts ...string) []string {
	for _, t := range texts {
		if t != "" {
			lines = append(lines, t)
		}
	}
	return lines
}

// trialLines describes for each condition whether it was met: of one wire, or of all.
func trialLines(x *Step, wire int) (out []string) {
	for _, t := range x.Trials {
		if wire >= 0 && t.Wire != wire {
			continue
		}
		name := ""
		if wire < 0 {
			name = fmt.Sprintf("wire %d: ", t.Wire+1)
		}
		if len(t.Conditions) == 0 {
			out = append(out, name+"no conditions")
		}
		for _, c := range t.Conditions {
			if c.Held {
				out = append(out, fmt.Sprintf("%smet    %s %s", name, c.Condition, c.Want))
			} else {
				out = append(out, name+"fails  "+c.Words())
			}
		}
		if t.Late {
			out = append(out, name+"an earlier wire takes it")
		}
	}
	return out
}

func waitedFor(x *Step) string {
	if x.Attempts == 0 || x.Waited <= 0 {
		return ""
	}
	why := x.WaitsFor
	if x.Class == engine.Cold {
		why = strings.TrimPrefix(why+", and an instance to start", ", and ")
	}
	if why != "" {
		why = ", for " + why
	}
	return fmt.Sprintf("it waited %v before it was dispatched%s", text.Duration(x.Waited.Round(10_000)), why)
}
