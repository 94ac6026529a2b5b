package record

import (
	"fmt"

	"nightdrill.dev/internal/core/engine"
)

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
			if !a.Offered() {
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
