package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/runner"
)

// RunTraffic returns the traffic on the wires of a project in a run that has ended.
func RunTraffic(p *plan.Expanded, r *record.Run) *Traffic {
	t := NewTraffic(p.Sources)
	t.SentOn = map[string][]int{}
	of := make([]int, len(r.Sources))
	for i := range r.Sources {
		of[i] = p.SourceNamed(r.Sources[i].Name)
	}
	sent := map[int64][]int32{} // the sources that replies to an event went on to
	for _, a := range r.Arrivals {
		if to := of[a.Source]; to >= 0 {
			t.Sources[to].Took(a.Origin)
			if a.Origin == engine.FromPublish && a.From >= 0 {
				for _, fn := range r.Sources[r.Arrivals[a.From].Source].To {
					t.Publishes(r.Functions[fn].Name, to)
				}
			}
			if a.Origin == engine.FromReply {
				sent[a.From] = append(sent[a.From], int32(to))
			}
		}
	}
	var gave []record.Delivery
	for _, d := range r.Deliveries {
		if s := of[d.Source]; s >= 0 {
			t.Sources[s].Ended(d.Wire, d.Outcome)
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
		name := plan.BaseName(r.Functions[r.Sources[d.Source].To[d.Wire]].Name)
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
	Published                                           int            // of those that arrived
	By                                                  map[string]int // of those, by the functions that they came of
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

func NewTraffic(sources []plan.Source) *Traffic {
	t := &Traffic{Sources: make([]SourceTraffic, len(sources))}
	for i := range sources {
		t.Sources[i] = SourceTraffic{Oldest: -1, Wires: make([]WireTraffic, len(sources[i].Wires))}
	}
	return t
}

// Took counts an event that arrived.
func (s *SourceTraffic) Took(origin engine.Origin) {
	if s.Arrived++; origin == engine.FromPublish {
		s.Published++
	}
}

// Ended counts an outcome.
func (s *SourceTraffic) Ended(wire int32, o engine.Outcome) {
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

// Publishes counts an event that a function published to a source.
func (t *Traffic) Publishes(function string, source int) {
	if source >= len(t.Sources) {
		return
	}
	s := &t.Sources[source]
	if s.By == nil {
		s.By = map[string]int{}
	}
	s.By[plan.BaseName(function)]++
}

// Merge adds the events of other traffic of the same sources.
func (t *Traffic) Merge(o *Traffic) {
	for i := range min(len(t.Sources), len(o.Sources)) {
		to, x := &t.Sources[i], &o.Sources[i]
		to.Arrived += x.Arrived
		to.Published += x.Published
		to.Unmatched += x.Unmatched
		to.Rejected += x.Rejected
		to.Skipped += x.Skipped
		to.DeadLettered += x.DeadLettered
		for w := range min(len(to.Wires), len(x.Wires)) {
			to.Wires[w].Done += x.Wires[w].Done
			to.Wires[w].Bad += x.Wires[w].Bad
		}
		for name, n := range x.By {
			if to.By == nil {
				to.By = map[string]int{}
			}
			to.By[name] += n
		}
	}
}

// published returns how many events a function published to a source.
func (t *Traffic) published(function string, source int) int {
	if t == nil || source >= len(t.Sources) {
		return 0
	}
	return t.Sources[source].By[function]
}

// Add adds what waits now, and what was sent on; of says for which of the
// project's sources each source of the driver stands.
func (t *Traffic) Add(d *runner.Runner, sources []plan.Source, of func(int) int) {
	t.Clock = d.At(time.Now())
	t.SentOn = map[string][]int{}
	for name, sent := range d.SentOn() {
		name = plan.BaseName(name)
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
