package session

import (
	"slices"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/session/explain"
)

// LatestDelivered returns the last n events of the session that satisfy a condition, newest first.
func (s *Session) LatestDelivered(n int, wanted func(*explain.Delivered) bool) (out []explain.Delivered) {
	p := s.Plan()
	var walk func(t *runner.Trace)
	walk = func(t *runner.Trace) {
		if t.Source >= len(p.Sources) || len(out) >= n {
			return // the project was read again
		}
		for i := len(t.Made) - 1; i >= 0; i-- {
			walk(t.Made[i])
		}
		x := explain.Delivered{Source: p.Sources[p.From[t.Source]].Name, Label: explain.Label(t.Payload)}
		wires := p.Sources[t.Source].Wires
		for w := max(len(wires)-1, 0); w >= 0; w-- {
			if t.Routes != 0 && t.Routes&(1<<w) == 0 {
				continue
			}
			x.Function, x.Open, x.Outcome, x.Took = "", true, 0, 0
			if t.Routes != 0 && w < len(wires) {
				x.Function = plan.BaseName(p.Functions[wires[w].To].Name)
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
