package session

import (
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/record"
	"nightdrill/internal/live/runner"
	"nightdrill/internal/session/explain"
)

// Traffic returns what has gone over the wires since the program was opened, as
// far as firings are kept, and what waits now.
func (s *Session) Traffic() *explain.Traffic {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := explain.NewTraffic(s.Sources)
	var count func(x *runner.Trace)
	count = func(x *runner.Trace) {
		if x.Source >= len(s.Whole.Sources) || s.Whole.From[x.Source] >= len(t.Sources) {
			return
		}
		to := &t.Sources[s.Whole.From[x.Source]]
		to.Took(x.Origin)
		for _, d := range x.Ended {
			to.Ended(d.Wire, d.Outcome)
		}
		for _, m := range x.Made {
			if m.Origin != engine.FromPublish {
				count(m)
				continue
			}
			for w, wire := range s.Whole.Sources[x.Source].Wires { // that is a firing of its own
				if x.Routes&(1<<w) != 0 && m.Source < len(s.Whole.From) {
					t.Publishes(s.Whole.Functions[wire.To].Name, s.Whole.From[m.Source])
				}
			}
		}
	}
	for _, f := range s.firings {
		if f.trace != nil && f.driver == s.driver {
			v := f.driver.Look(f.trace)
			count(&v)
		}
	}
	t.Add(s.driver.Runner, s.Whole.Sources, func(i int) int { return s.Whole.From[i] })
	return t
}

// tally is how far a drill's records have been counted.
type tally struct {
	t                    *explain.Traffic
	arrivals, deliveries int
}

// Traffic returns what has gone over the wires in a drill, and what waits now.
func (r *Running) Traffic(run *record.Run) *explain.Traffic {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.tally.t == nil {
		r.tally.t = explain.NewTraffic(r.sources)
	}
	x := &r.tally
	for _, a := range run.Arrivals[x.arrivals:] {
		x.t.Sources[a.Source].Took(a.Origin)
		if a.Origin == engine.FromPublish && a.From >= 0 {
			for _, fn := range run.Sources[run.Arrivals[a.From].Source].To {
				x.t.Publishes(run.Functions[fn].Name, int(a.Source))
			}
		}
	}
	for _, d := range run.Deliveries[x.deliveries:] {
		x.t.Sources[d.Source].Ended(d.Wire, d.Outcome)
	}
	x.arrivals, x.deliveries = len(run.Arrivals), len(run.Deliveries)
	for i := range x.t.Sources { // what waits is told anew each time
		s := &x.t.Sources[i]
		s.Oldest, s.Lanes = -1, nil
		for w := range s.Wires {
			s.Wires[w].Waiting, s.Wires[w].Working = 0, 0
		}
	}
	x.t.Add(r.driver.Runner, r.sources, func(i int) int { return i })
	return x.t
}
