package session

import (
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/session/explain"
)

// Traffic returns what has gone over the wires since the functions' code was read, and what waits now.
func (s *Session) Traffic() *explain.Traffic {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := explain.NewTraffic(s.Sources)
	if s.gone.of == s.driver {
		t.Merge(s.gone.t)
	}
	for _, f := range s.firings {
		if f.trace != nil && f.driver == s.driver {
			s.count(t, f, true)
		}
	}
	t.Add(s.driver.Runner, s.Whole.Sources, func(i int) int { return s.Whole.From[i] })
	return t
}

// count counts a firing and what came of it in a project's traffic: that it arrived, where that is wanted, and how its
// deliveries ended.
func (s *Session) count(t *explain.Traffic, f *Firing, arrived bool) {
	var count func(x *runner.Trace, arrived bool)
	count = func(x *runner.Trace, arrived bool) {
		if x.Source >= len(s.Whole.Sources) || s.Whole.From[x.Source] >= len(t.Sources) {
			return
		}
		to := &t.Sources[s.Whole.From[x.Source]]
		if arrived {
			to.Took(x.Origin)
		}
		for _, d := range x.Ended {
			to.Ended(d.Wire, d.Outcome)
		}
		for _, m := range x.Made {
			if m.Origin != engine.FromPublish {
				count(m, true)
				continue
			}
			for w, wire := range s.Whole.Sources[x.Source].Wires { // that is a firing of its own
				if x.Routes&(1<<w) != 0 && m.Source < len(s.Whole.From) {
					t.Publishes(s.Whole.Functions[wire.To].Name, s.Whole.From[m.Source])
				}
			}
		}
	}
	v := f.driver.Look(f.trace)
	count(&v, arrived)
}

// gone is the traffic of the firings that are no longer kept.
type gone struct {
	of *runner.Follower
	t  *explain.Traffic
}

// fate is what became of a firing, guarded by the session.
type fate struct {
	let     bool // it is no longer kept
	over    bool // so is what came of it
	arrived bool // its arrival is among those that are gone
}

// let counts a firing that is no longer kept: whole, or, where it is not over, its arrival.
func (s *Session) let(f *Firing) {
	f.fate.let = true
	if t := s.goneOf(f); t != nil && f.fate.over {
		s.count(t, f, true)
		return
	}
	s.arrived(f)
}

// arrived counts the arrival of a firing that is no longer kept.
func (s *Session) arrived(f *Firing) {
	t := s.goneOf(f)
	if t == nil || !f.fate.let {
		return
	}
	if at := s.Whole.From[f.trace.Source]; at < len(t.Sources) {
		f.fate.arrived = true
		t.Sources[at].Took(f.trace.Origin)
	}
}

// ended counts what came of a firing that is no longer kept.
func (s *Session) ended(f *Firing) {
	f.fate.over = true
	s.keepLetters(f)
	if f.Origin == Published {
		s.waiting--
	}
	if t := s.goneOf(f); t != nil && f.fate.let {
		s.count(t, f, !f.fate.arrived)
	}
}

// goneOf returns the traffic in which a firing is counted that is no longer kept, or nil.
func (s *Session) goneOf(f *Firing) *explain.Traffic {
	if f.trace == nil || f.driver != s.driver || f.trace.Source >= len(s.Whole.From) {
		return nil
	}
	if s.gone.of != s.driver || len(s.gone.t.Sources) != len(s.Sources) {
		s.gone = gone{s.driver, explain.NewTraffic(s.Sources)}
	}
	return s.gone.t
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
