package measure

import (
	"fmt"
	"math/bits"
	"slices"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Chain holds the figures of the chains that begin at a source: events of which at least one reply
// was sent on. Its latency is from the first event's due to the end of its last step.
type Chain struct {
	Latency Figures `json:"latency"`
	Steps   int     `json:"steps"`  // the most steps of one chain
	Broken  int     `json:"broken"` // of which a step did not succeed

	FailedAt []string // sources at which steps failed
}

// Idempotence compares the replies to second deliveries with the first ones.
type Idempotence struct {
	Twice    int      `json:"twice"`    // deliveries that were dispatched again although they had been done
	Differed int      `json:"differed"` // of which the second reply or status was different
	Which    []string `json:"which"`    // the first of those, in words
}

// chains computes the chains of a run, by the source at which they begin.
func chains(r *record.Run, s *Summary) {
	populations, figured := chained(r)
	for i := range populations {
		if populations[i].N() > 0 {
			figured[i].Latency = figures(populations[i], stats.Serial)
			s.Chains[r.Sources[i].Name] = figured[i]
		}
	}
}

// chainPopulations returns how long the chains lasted that begin at each source.
func chainPopulations(r *record.Run) []*stats.Population {
	p, _ := chained(r)
	return p
}

func chained(r *record.Run) ([]*stats.Population, []Chain) {
	populations := make([]*stats.Population, len(r.Sources))
	for i := range populations {
		populations[i] = &stats.Population{}
	}
	figured := make([]Chain, len(r.Sources))
	n := len(r.Arrivals)
	root, depth, end := make([]int64, n), make([]int, n), make([]clock.Time, n)
	bad := make([]bool, n)
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if int(d.Event) < n {
			end[d.Event] = max(end[d.Event], d.Ended)
			bad[d.Event] = bad[d.Event] || d.Outcome != engine.Done
		}
	}
	type chain struct {
		last   clock.Time
		steps  int
		broken bool
	}
	all := map[int64]*chain{}
	for i := range r.Arrivals { // an event comes after the one that it was made of
		a := &r.Arrivals[i]
		root[i] = int64(i)
		if a.From < 0 || a.From >= int64(i) || a.Origin == engine.FromFault {
			continue
		}
		root[i], depth[i] = root[a.From], depth[a.From]
		if a.Origin == engine.FromReply || a.Origin == engine.FromPublish {
			depth[i]++
			if all[root[i]] == nil {
				all[root[i]] = &chain{last: end[root[i]], broken: bad[root[i]]}
			}
		}
		if c := all[root[i]]; c != nil {
			c.last, c.steps, c.broken = max(c.last, end[i]), max(c.steps, depth[i]+1), c.broken || bad[i]
		}
	}
	for i := range r.Arrivals { // in their order
		c := all[int64(i)]
		if c == nil {
			continue
		}
		source := r.Arrivals[i].Source
		populations[source].Add(c.last.Sub(r.Arrivals[i].Due))
		figured[source].Steps = max(figured[source].Steps, c.steps)
		if c.broken {
			figured[source].Broken++
		}
	}
	for i := range r.Arrivals {
		if name := r.Sources[r.Arrivals[i].Source].Name; bad[i] && all[root[i]] != nil {
			c := &figured[r.Arrivals[root[i]].Source]
			if !slices.Contains(c.FailedAt, name) {
				c.FailedAt = append(c.FailedAt, name)
			}
		}
	}
	return populations, figured
}

// faults counts the delivery faults of events.
func faults(r *record.Run, s *Summary, seen *scan) {
	for i := 0; i < len(r.Arrivals) && seen.faults; i++ {
		a := &r.Arrivals[i]
		if a.Origin == engine.FromFault { // counted with the event itself
			continue
		}
		for kinds := a.Fault; kinds != 0; kinds &= kinds - 1 {
			if k := bits.TrailingZeros8(kinds); 1<<k != fault.AckLost {
				s.Faults[fault.Names[k]]++
			}
		}
	}
	for i := range r.Attempts { // it is lost only where an attempt went well
		if r.Attempts[i].Result == engine.AckLost {
			s.Faults[fault.Names[bits.TrailingZeros8(fault.AckLost)]]++
		}
	}
}

// mostNamed bounds the deliveries that are named for a different reply.
const mostNamed = 10

// idempotence compares each second delivery with the first: copies with their originals, and events
// that were delivered again because the acknowledgement was lost. Where invocations carry several
// events, only the statuses are compared.
func idempotence(r *record.Run, s *Summary, at []int32) {
	type wire struct {
		event int64
		wire  int32
	}
	last := map[wire]uint64{}
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if d.Invocation > 0 {
			last[wire{d.Event, d.Wire}] = d.Invocation
		}
	}
	x := &Idempotence{Which: []string{}}
	compare := func(event int64, first, second uint64) {
		a, b := r.Invocation(at, first), r.Invocation(at, second)
		if a == nil || b == nil || first == second || a.Status == 0 || b.Status == 0 {
			return
		}
		x.Twice++
		alone := a.Batch == 1 && b.Batch == 1 && a.Reply > 0 && b.Reply > 0
		if a.Status == b.Status && (!alone || a.Reply == b.Reply) {
			return
		}
		if x.Differed++; len(x.Which) < mostNamed {
			how := fmt.Sprintf("status %d, then %d", a.Status, b.Status)
			if a.Status == b.Status {
				how = "a different reply"
			}
			p := &r.Payloads[r.Arrivals[event].Payload]
			x.Which = append(x.Which, fmt.Sprintf("event %d (%s): %s", event, p.Label, how))
		}
	}
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.Origin == engine.FromFault && int(a.Source) < len(r.Sources) {
			for w := range r.Sources[a.Source].To {
				compare(a.From, last[wire{a.From, int32(w)}], last[wire{int64(i), int32(w)}])
			}
		}
	}
	for i := range r.Attempts {
		if a := &r.Attempts[i]; a.Result == engine.AckLost && int(a.Event) < len(r.Arrivals) {
			compare(a.Event, a.Invocation, last[wire{a.Event, a.Wire}])
		}
	}
	s.Idempotence = x
}
