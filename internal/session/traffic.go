package session

import (
	"fmt"
	"strings"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
	"nightdrill/internal/live/runner"
)

// Traffic is what has gone over the wires, and what waits on them now.
type Traffic struct {
	Sources []SourceTraffic  // of the project's own sources
	SentOn  map[string][]int // replies, by the function's name and their place in its Then; those of variants with it
	Clock   clock.Time       // of the driver
}

// SourceTraffic is the traffic of one source.
type SourceTraffic struct {
	Arrived, Unmatched, Rejected, Skipped, DeadLettered int
	Wires                                               []WireTraffic
	// how long the oldest open event has been there; -1 for none
	Oldest time.Duration
	Lanes  []LaneTraffic // of a stream: its partitions
}

// WireTraffic is the traffic of one wire.
type WireTraffic struct{ Done, Bad, Waiting, Working int }

// words describes how much it is; "" for nothing.
func (t WireTraffic) words() string {
	var out []string
	for _, x := range []struct {
		n    int
		what string
	}{{t.Done, "done"}, {t.Bad, "not done"}, {t.Working, "in flight"}, {t.Waiting, "waiting"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	return strings.Join(out, ", ")
}

// Wire returns the traffic of a wire; none where there is none.
func (t *Traffic) Wire(x WireOf) WireTraffic {
	if t == nil || x.Source >= len(t.Sources) || x.Wire >= len(t.Sources[x.Source].Wires) {
		return WireTraffic{}
	}
	return t.Sources[x.Source].Wires[x.Wire]
}

// send counts replies of a function that went one of its ways on.
func (t *Traffic) send(function string, way, n int) {
	for len(t.SentOn[function]) <= way {
		t.SentOn[function] = append(t.SentOn[function], 0)
	}
	t.SentOn[function][way] += n
}

// sentOn returns how many replies of a function went one of its ways on.
func (t *Traffic) sentOn(function string, way int) int {
	if t == nil || way >= len(t.SentOn[function]) {
		return 0
	}
	return t.SentOn[function][way]
}

// LaneTraffic is the state of a partition.
type LaneTraffic struct {
	engine.LaneStats
	Age time.Duration // of the first record that was not read; -1 for none
}

func newTraffic(sources []plan.Source) *Traffic {
	t := &Traffic{Sources: make([]SourceTraffic, len(sources))}
	for i := range sources {
		t.Sources[i] = SourceTraffic{Oldest: -1, Wires: make([]WireTraffic, len(sources[i].Wires))}
	}
	return t
}

// ended counts an outcome.
func (s *SourceTraffic) ended(wire int32, o engine.Outcome) {
	switch o {
	case engine.Unmatched:
		s.Unmatched++
		return
	case engine.Rejected:
		s.Rejected++
	case engine.Skipped:
		s.Skipped++
	case engine.DeadLettered:
		s.DeadLettered++
	}
	if int(wire) >= len(s.Wires) || wire < 0 {
		return
	}
	if o == engine.Done {
		s.Wires[wire].Done++
	} else {
		s.Wires[wire].Bad++
	}
}

// look adds what waits now, and what was sent on; of says for which of the
// project's sources each source of the driver stands.
func (t *Traffic) look(d *runner.Runner, sources []plan.Source, of func(int) int) {
	t.Clock = d.At(time.Now())
	t.SentOn = map[string][]int{}
	for name, sent := range d.SentOn() {
		name, _, _ = strings.Cut(name, "@")
		for i, n := range sent {
			t.send(name, i, n)
		}
	}
	for s, wires := range d.Wires() {
		x := &t.Sources[of(s)]
		for w, look := range wires {
			x.Wires[w].Waiting += look.Open - look.Working
			x.Wires[w].Working += look.Working
			if look.Eldest != clock.Never {
				x.Oldest = max(x.Oldest, t.Clock.Sub(look.Eldest))
			}
		}
		if sources[s].Kind != plan.Stream || of(s) != s {
			continue
		}
		for _, l := range d.Lanes(s) {
			lane := LaneTraffic{l, -1}
			if l.Eldest != clock.Never {
				lane.Age = t.Clock.Sub(l.Eldest)
			}
			x.Lanes = append(x.Lanes, lane)
		}
	}
}

// Traffic returns what has gone over the wires since the program was opened, as
// far as firings are kept, and what waits now.
func (s *Session) Traffic() *Traffic {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := newTraffic(s.Sources)
	var count func(x *runner.Trace)
	count = func(x *runner.Trace) {
		if x.Source >= len(s.Whole.Sources) || s.Whole.From[x.Source] >= len(t.Sources) {
			return
		}
		to := &t.Sources[s.Whole.From[x.Source]]
		to.Arrived++
		for _, d := range x.Ended {
			to.ended(d.Wire, d.Outcome)
		}
		for _, m := range x.Made {
			count(m)
		}
	}
	for _, f := range s.firings {
		if f.trace != nil && f.driver == s.driver {
			v := f.driver.Look(f.trace)
			count(&v)
		}
	}
	t.look(s.driver.Runner, s.Whole.Sources, func(i int) int { return s.Whole.From[i] })
	return t
}

// tally is how far a drill's records have been counted.
type tally struct {
	t                    *Traffic
	arrivals, deliveries int
}

// Traffic returns what has gone over the wires in a drill, and what waits now.
func (r *Running) Traffic(run *record.Run) *Traffic {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.tally.t == nil {
		r.tally.t = newTraffic(r.sources)
	}
	x := &r.tally
	for _, a := range run.Arrivals[x.arrivals:] {
		x.t.Sources[a.Source].Arrived++
	}
	for _, d := range run.Deliveries[x.deliveries:] {
		x.t.Sources[d.Source].ended(d.Wire, d.Outcome)
	}
	x.arrivals, x.deliveries = len(run.Arrivals), len(run.Deliveries)
	for i := range x.t.Sources { // what waits is told anew each time
		s := &x.t.Sources[i]
		s.Oldest, s.Lanes = -1, nil
		for w := range s.Wires {
			s.Wires[w].Waiting, s.Wires[w].Working = 0, 0
		}
	}
	x.t.look(r.driver.Runner, r.sources, func(i int) int { return i })
	return x.t
}
