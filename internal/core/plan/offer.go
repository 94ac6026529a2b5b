package plan

import (
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/payload"
)

// RejectedPause is how long a rejected caller waits before it sends its next request: what its Retry-After says.
const RejectedPause = time.Second

// MostPause bounds what a function's own Retry-After makes its callers wait.
const MostPause = time.Minute

// Offer is a sequence of events that a feed of a drill sends to a source.
type Offer struct {
	*arrival.Schedule
	Source int
	Set    int           // of the project, whose payloads they are; -1 for those of Events
	First  int           // the set's payload that is the schedule's first
	Events []payload.Set // of a schedule: its one set, which is made for it
	Faults fault.Rules
	Again  []Moment // of a run that is replayed, in place of the schedule's payloads
	Number uint64   // among the feeds of the drill, for its faults
}

// Payloads returns the set that an offer's payloads are of.
func (o *Offer) Payloads(p *Project) *payload.Set {
	if o.Set < 0 {
		return &o.Events[0]
	}
	return &p.Sets[o.Set]
}

// Offers returns what the n-th feed of a drill sends, by a schedule of the given seed, with notes about what it does
// not send.
func (p *Project) Offers(d *Drill, n int, seed uint64) (out []Offer, notes []string) {
	f := &d.Feeds[n]
	if f.Live > 0 {
		return nil, nil // they come by themselves
	}
	o := Offer{Source: f.Source, Set: f.Set, Faults: f.Faults, Number: uint64(n)}
	src := &p.Sources[f.Source]
	if f.Clock != nil {
		var set *payload.Set
		if f.Set >= 0 {
			set = &p.Sets[f.Set]
		}
		events, after, notes := TimesOf(src, f.Clock, set)
		o.Set, o.Events = -1, []payload.Set{{Name: src.Name, Payloads: events}}
		start := clock.Time(0)
		if len(after) > 0 {
			start = clock.Time(float64(after[0]) / f.Clock.Speed)
		}
		o.Schedule = arrival.New([]arrival.Phase{{Pattern: arrival.Recorded, Speed: f.Clock.Speed}}, after,
			max(len(events), 1), start, seed, uint64(n))
		return []Offer{o}, notes
	}
	set := &p.Sets[f.Set]
	if len(f.Moments) > 0 {
		times := make([]time.Duration, len(f.Moments))
		for i := range f.Moments {
			times[i] = f.Moments[i].Due
		}
		o.Again = f.Moments
		o.Schedule = arrival.New([]arrival.Phase{{Pattern: arrival.Recorded, Speed: 1}}, times, len(times),
			clock.Time(slices.Min(times)), seed, uint64(n))
		return []Offer{o}, nil
	}
	times, _, _ := set.Offsets()
	size := len(set.Payloads)
	if f.Retained > 0 {
		// what was in the stream before the function came is there at once, or not read
		if src.FromNew {
			notes = append(notes, fmt.Sprintf("%s: %d records that were there before the drill are not read, as "+
				"it begins with new ones", src.Name, f.Retained))
		} else {
			kept := o
			kept.Number += 1 << 16
			kept.Schedule = arrival.New([]arrival.Phase{{Pattern: arrival.Once}}, nil, f.Retained, 0, seed, uint64(n))
			out = append(out, kept)
		}
		if size > f.Retained {
			o.First, size = f.Retained, size-f.Retained
			times = times[min(f.Retained, len(times)):]
		}
	}
	o.Schedule = arrival.New(f.Phases, times, size, 0, seed, uint64(n))
	return append(out, o), notes
}

// Closed reports whether a feed is of callers who wait for their replies.
func (f *Feed) Closed() bool {
	return slices.ContainsFunc(f.Phases, func(p arrival.Phase) bool { return p.Pattern == arrival.Callers })
}

// DelayOf returns how long a queue's message asks to be hidden, by its attribute `delay`.
func (s *Source) DelayOf(p *payload.Payload) time.Duration {
	if s.Kind != Queue || p.Event == nil {
		return 0
	}
	text, _ := p.Event.Attribute("delay")
	delay, err := time.ParseDuration(text)
	if err != nil {
		return 0
	}
	return max(delay, 0)
}
