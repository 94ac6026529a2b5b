package explain

import (
	"fmt"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
)

// Delivered is an event on one of its wires, and its outcome there.
type Delivered struct {
	Event    int64  // of a run
	At       string // the time of day, or the seconds since a run began
	Source   string
	Function string // "" of an unmatched event
	Label    string // what it is, in a few words
	Open     bool
	Outcome  engine.Outcome // unless it is open
	Took     time.Duration  // from its due to its end
}

// Word returns the outcome in a word.
func (c *Delivered) Word() string {
	if c.Open {
		return "in progress"
	}
	return outcomeWord(c.Outcome)
}

// mostScanned bounds the deliveries of a run that are searched for the latest ones.
const mostScanned = 5000

// LatestEnded returns the last n deliveries of a run that satisfy a condition, newest first.
func LatestEnded(r *record.Run, n int, wanted func(*Delivered) bool) (out []Delivered) {
	for i := len(r.Deliveries) - 1; i >= max(0, len(r.Deliveries)-mostScanned) && len(out) < n; i-- {
		d := &r.Deliveries[i]
		if int(d.Event) >= len(r.Arrivals) {
			continue // it is about to be known
		}
		a, src := &r.Arrivals[d.Event], &r.Sources[d.Source]
		x := Delivered{Event: d.Event, Source: src.Name, Label: r.Payloads[a.Payload].Label, Outcome: d.Outcome,
			Took: d.Ended.Sub(a.Due)}
		if d.Wire >= 0 && int(d.Wire) < len(src.To) {
			x.Function = plan.BaseName(r.Functions[src.To[d.Wire]].Name)
		}
		if wanted(&x) {
			x.At = fmt.Sprintf("+%.1f s", d.Ended.Seconds())
			out = append(out, x)
		}
	}
	return out
}
