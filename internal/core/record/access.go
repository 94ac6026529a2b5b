package record

import (
	"fmt"
	"slices"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
)

// TraceOf returns the first half of the trace IDs of a run (W3C Trace Context); its lowest bit is set where it is used.
func TraceOf(seed uint64, run string) uint64 {
	trace := seed ^ 0x9e3779b97f4a7c15
	for _, c := range run {
		trace = trace*31 + uint64(c)
	}
	return trace
}

// Began is when the invocation was sent, or dispatched when it never was.
func (v *Invocation) Began() clock.Time {
	if v.Sent > 0 {
		return v.Sent
	}
	return v.Assigned
}

// Invocation returns an invocation by its ID, with the places of Index, or nil.
func (r *Run) Invocation(at []int32, id uint64) *Invocation {
	if id == 0 || id >= uint64(len(at)) || at[id] < 0 {
		return nil
	}
	return &r.Invocations[at[id]]
}

// Function returns the index of a function, or -1.
func (r *Run) Function(name string) int {
	return slices.IndexFunc(r.Functions, func(f Function) bool { return f.Name == name })
}

// Index returns the place of each invocation by its ID, or -1.
func (r *Run) Index() []int32 {
	at := make([]int32, 0, r.IDs())
	for i := range r.Invocations {
		for uint64(len(at)) <= r.Invocations[i].ID {
			at = append(at, -1)
		}
		at[r.Invocations[i].ID] = int32(i)
	}
	return at
}

// WhyUnexpected returns in which way replies of the run are unexpected, to follow "it is".
func (r *Run) WhyUnexpected() string {
	switch r.Doubt {
	case OnlyDoubt:
		return "maybe the reply to another request"
	case AlsoDoubt:
		return "not as its payload expects, or may be the reply to another request"
	}
	return "not as its payload expects"
}

// IDs returns about how many IDs of invocations there are, from 0 to the largest: of a part of a run, many times as
// many as invocations.
func (r *Run) IDs() int {
	last := uint64(0)
	for i := max(0, len(r.Invocations)-1000); i < len(r.Invocations); i++ { // they are in the order of their ends
		last = max(last, r.Invocations[i].ID)
	}
	return int(last + last/64 + 1)
}

// StartText returns why an instance was started.
func (in *Instance) StartText() string {
	if in.Cause == engine.AfterStop {
		return fmt.Sprintf("%s (%s)", in.Cause, in.After)
	}
	return in.Cause.String()
}

// Offered reports whether an event is of the drill's own load: not made of another one, not delivered again by a
// fault, and not published.
func (a *Arrival) Offered() bool { return a.From < 0 && a.Origin != engine.FromPublish }

// Outside returns the payloads that came from outside, each with a source that received it: not
// those that were never sent, or that were made of replies.
func (r *Run) Outside() map[int32]int32 {
	out := map[int32]int32{}
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		if _, ok := out[a.Payload]; !ok && a.Offered() {
			out[a.Payload] = a.Source
		}
	}
	return out
}

// Asked reports whether a function was ever invoked.
func (r *Run) Asked(fn int) bool {
	return slices.ContainsFunc(r.Invocations, func(v Invocation) bool { return int(v.Function) == fn })
}

// Cold reports whether the run is of a drill of cold starts.
func (r *Run) Cold() bool { return r.ColdStarts > 0 }

// MemoryOf returns the memory in bytes that an instance holds: its bound, or its peak where it has
// none; 0 if unknown.
func (r *Run) MemoryOf(in *Instance) int64 {
	if in.Function < 0 {
		return 0
	}
	if m := r.Functions[in.Function].Memory; m > 0 {
		return m
	}
	return in.Peak
}

// End returns when an instance stopped, or the run did.
func (r *Run) End(in *Instance) clock.Time {
	if in.Stopped > 0 {
		return in.Stopped
	}
	return max(r.Length, in.Spawned)
}

// ServerTiming returns the Server-Timing header of an invocation's reply, or "".
func (r *Run) ServerTiming(v *Invocation) string {
	if v.Timing <= 0 {
		return ""
	}
	if int(v.Timing) <= len(r.Blobs) {
		return string(r.Blobs[v.Timing-1])
	}
	return r.Timings[v.Timing]
}
