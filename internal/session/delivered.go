package session

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
	"nightdrill/internal/live/runner"
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

// LatestDelivered returns the last n events of the session that satisfy a condition, newest first.
func (s *Session) LatestDelivered(n int, wanted func(*Delivered) bool) (out []Delivered) {
	p := s.Plan()
	var walk func(t *runner.Trace)
	walk = func(t *runner.Trace) {
		if t.Source >= len(p.Sources) || len(out) >= n {
			return // the project was read again
		}
		for i := len(t.Made) - 1; i >= 0; i-- {
			walk(t.Made[i])
		}
		x := Delivered{Source: p.Sources[p.From[t.Source]].Name, Label: labelOf(t.Payload)}
		wires := p.Sources[t.Source].Wires
		for w := max(len(wires)-1, 0); w >= 0; w-- {
			if t.Routes != 0 && t.Routes&(1<<w) == 0 {
				continue
			}
			x.Function, x.Open, x.Outcome, x.Took = "", true, 0, 0
			if t.Routes != 0 && w < len(wires) {
				x.Function, _, _ = strings.Cut(p.Functions[wires[w].To].Name, "@")
			}
			for _, d := range t.Ended {
				if t.Routes == 0 || int(d.Wire) == w {
					x.Open, x.Outcome, x.Took = false, d.Outcome, d.Ended.Sub(t.Arrived)
				}
			}
			if wanted(&x) {
				x.At = t.At.Format("15:04:05")
				out = append(out, x)
			}
			if t.Routes == 0 {
				break
			}
		}
	}
	for _, v := range slices.Backward(s.Recent(mostRecent)) {
		if v.Trace != nil {
			walk(v.Trace)
		}
	}
	return out[:min(n, len(out))]
}

// mostRecent bounds the firings that are searched for the latest ones.
const mostRecent = 100

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
			x.Function, _, _ = strings.Cut(r.Functions[src.To[d.Wire]].Name, "@")
		}
		if wanted(&x) {
			x.At = fmt.Sprintf("+%.1f s", d.Ended.Seconds())
			out = append(out, x)
		}
	}
	return out
}

// RunTraffic returns the traffic on the wires of a project in a run that has ended.
func RunTraffic(p *plan.Expanded, r *record.Run) *Traffic {
	t := newTraffic(p.Sources)
	t.SentOn = map[string][]int{}
	of := make([]int, len(r.Sources))
	for i := range r.Sources {
		of[i] = p.SourceNamed(r.Sources[i].Name)
	}
	sent := map[int64][]int32{} // the sources that replies to an event went on to
	for _, a := range r.Arrivals {
		if to := of[a.Source]; to >= 0 {
			t.Sources[to].Arrived++
			if a.Origin == engine.FromReply {
				sent[a.From] = append(sent[a.From], int32(to))
			}
		}
	}
	var gave []record.Delivery
	for _, d := range r.Deliveries {
		if s := of[d.Source]; s >= 0 {
			t.Sources[s].ended(d.Wire, d.Outcome)
		}
		if d.Outcome == engine.Done && sent[d.Event] != nil {
			gave = append(gave, d)
		}
	}
	// of several functions that received an event, the one that was done first is taken to have
	// sent the first reply on
	slices.SortStableFunc(gave, func(a, b record.Delivery) int { return cmp.Compare(a.Ended, b.Ended) })
	for _, d := range gave {
		if int(d.Wire) >= len(r.Sources[d.Source].To) {
			continue
		}
		name, _, _ := strings.Cut(r.Functions[r.Sources[d.Source].To[d.Wire]].Name, "@")
		fn := p.FunctionNamed(name)
		if fn < 0 {
			continue
		}
		for k := range p.Functions[fn].Then {
			if i := slices.Index(sent[d.Event], int32(p.Functions[fn].Then[k].To)); i >= 0 {
				sent[d.Event] = slices.Delete(sent[d.Event], i, i+1)
				t.send(name, k, 1)
			}
		}
	}
	return t
}
