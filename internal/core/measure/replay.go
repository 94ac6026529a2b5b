package measure

import (
	"fmt"
	"maps"
	"slices"

	"nightdrill/internal/core/engine"
)

// Outside returns the payloads that came from outside, each with a source that received it: not
// those that were never sent, or that were made of replies.
func (r *Run) Outside() map[int32]int32 {
	out := map[int32]int32{}
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		if _, ok := out[a.Payload]; !ok && a.From < 0 {
			out[a.Payload] = a.Source
		}
	}
	return out
}

// Turns are the events of a run that had a different outcome when they were replayed.
type Turns struct {
	Same    int            `json:"same"`
	Other   int            `json:"other"`
	Between map[string]int `json:"between"` // "rejected, now done", and how often
	Which   []string       `json:"which"`   // the first of them
}

// mostTurns bounds the events that are named.
const mostTurns = 20

// TurnsOf compares the outcomes of the events of two runs that came from outside: the same event is
// the one of the same source and payload, in its turn.
func TurnsOf(before, after *Run) *Turns {
	type key struct {
		source, set string
		n           int
		turn        int
	}
	outcomes := func(r *Run) (map[key]string, []key) {
		worst := make([]int, len(r.Arrivals)) // of the deliveries of an event, plus one
		for i := range r.Deliveries {
			if d := &r.Deliveries[i]; int(d.Event) < len(worst) {
				worst[d.Event] = max(worst[d.Event], int(d.Outcome)+1)
			}
		}
		turns := map[key]int{}
		out := map[key]string{}
		var order []key
		for i := range r.Arrivals {
			a := &r.Arrivals[i]
			if a.From >= 0 {
				continue
			}
			p := &r.Payloads[a.Payload]
			k := key{r.Sources[a.Source].Name, p.Set, p.N, 0}
			turns[k]++
			k.turn = turns[k]
			out[k] = engine.Abandoned.String()
			if w := worst[i]; w > 0 {
				out[k] = engine.Outcome(w - 1).String()
			}
			order = append(order, k)
		}
		return out, order
	}
	was, order := outcomes(before)
	is, _ := outcomes(after)
	t := &Turns{Between: map[string]int{}, Which: []string{}}
	for _, k := range order {
		now, ok := is[k]
		if !ok {
			now = "not sent"
		}
		if now == was[k] {
			t.Same++
			continue
		}
		t.Other++
		what := fmt.Sprintf("%s, now %s", was[k], now)
		t.Between[what]++
		if len(t.Which) < mostTurns {
			t.Which = append(t.Which, fmt.Sprintf("%s: %s#%d: %s", k.source, k.set, k.n, what))
		}
	}
	return t
}

// Lines describes what happened to the events, in words.
func (t *Turns) Lines() (out []string) {
	if t.Other == 0 {
		return []string{fmt.Sprintf("All %s had the same outcome.", count(t.Same, "event", "events"))}
	}
	out = append(out, fmt.Sprintf("%d of %s had a different outcome:", t.Other, count(t.Same+t.Other, "event",
		"events")))
	for _, what := range slices.Sorted(maps.Keys(t.Between)) {
		out = append(out, fmt.Sprintf("%d %s;", t.Between[what], what))
	}
	return slices.Concat(out, t.Which)
}
