package explain

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session/catalog"
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
				out[at].What, out[at].Reply = out[at].What+", "+Ended(int(v.Status), v.Result), v.Reply
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

// Ended describes how the last attempt of a dead letter ended.
func Ended(status int, result engine.Result) string {
	switch {
	case status > 0 && (result == engine.OK || result == engine.BadStatus):
		return fmt.Sprintf("last: status %d", status)
	case status > 0:
		return fmt.Sprintf("last: %v, status %d", result, status)
	}
	return fmt.Sprintf("last: %v", result)
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
		if base.Payload = PayloadOf(p, &r.Payloads[a.Payload]); base.Payload != nil && at >= 0 {
			base.Payload = catalog.AsObject(&p.Sources[at], base.Payload)
			base.Label = Label(base.Payload)
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

// PayloadOf finds what was sent in the project's sets; nil if it is not there.
func PayloadOf(p *plan.Project, x *record.Payload) *payload.Payload {
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
