package explain

import (
	"fmt"
	"strings"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/route"
	"nightdrill.dev/internal/core/text"
)

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
				end.Text += fmt.Sprintf(", %v, %v in total", x.Class, text.Measured(x.Took))
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
	x := Step{Source: p.Sources[source].Name, Label: Label(pl), Payload: pl, Wire: -1, Trials: p.Explain(source, pl)}
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
	return fmt.Sprintf("it waited %v before it was dispatched%s", text.Measured(x.Waited), why)
}
