package store

import (
	"errors"
	"fmt"
	"sync/atomic"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
)

// A file may come from a disk that fails, and a shared run from anywhere. Records that refer to what the run
// does not have count as damage, as a block does that is cut off: nothing that reads a run has to doubt it.

// errUnsound is what a record is that refers to what is not there.
var errUnsound = errors.New("a record in it refers to what the run does not have")

// extent is what the records of a run may refer to.
type extent struct {
	run                 *record.Run
	events, invocations int64       // that there are
	beyond              atomic.Bool // a record is of an instance that is not there
}

// Bounds that no run comes near, so that damage asks neither for endless memory nor for endless loops.
const (
	latest  = clock.Time(1) << 60 // 36 years
	mostIDs = 1 << 20             // of invocations, or of instances, that are not among the records

	usualRecords = 1 << 17 // more than a block has
)

// extentOf finds out what the records may refer to, from the heads of their blocks before a seq.
func extentOf(r *record.Run, blocks map[string][]block, until int) *extent {
	return &extent{run: r, events: int64(claimed(blocks["arrivals"], until)),
		invocations: int64(claimed(blocks["invocations"], until))}
}

// claimed returns how many records the blocks before a seq say that they have.
func claimed(blocks []block, until int) (n int) {
	for _, b := range blocks {
		if b.seq < until {
			k, _, _ := claim(b.data) // 0 of one that will not be read
			n += int(k)
		}
	}
	return n
}

// possible reports whether moments are ones that a run can have.
func possible(times ...clock.Time) bool {
	for _, t := range times {
		if t < -latest || t > latest {
			return false
		}
	}
	return true
}

// among reports whether a number is one of n places, from 0.
func among(i int32, n int) bool { return i >= 0 && int(i) < n }

// wire reports whether a source has a wire, or it is -1: none.
func (x *extent) wire(source, wire int32) bool {
	return among(source, len(x.run.Sources)) && wire >= -1 && int(wire) < len(x.run.Sources[source].To)
}

// id reports whether an invocation's ID is possible: they are numbered one after the other, and not all end.
func (x *extent) id(of uint64) bool { return of <= 16*uint64(x.invocations)+mostIDs }

// ofInstance reports whether an instance's number is possible. That it is not there is no damage of the block:
// instances have blocks of their own.
func (x *extent) ofInstance(i int32) bool {
	if int(i) >= len(x.run.Instances) {
		x.beyond.Store(true)
	}
	return i >= 0
}

func (x *extent) arrival(i int, a *record.Arrival) bool {
	payloads := len(x.run.Payloads) + int(x.events) // those that were made on the way may not be listed
	return possible(a.Due, a.Arrived, clock.Time(a.Delay)) && a.From >= -1 && a.From < int64(i) && a.Round >= 0 &&
		among(a.Payload, payloads) && among(a.Source, len(x.run.Sources)) && a.Origin <= engine.FromPublish
}

func (x *extent) invocation(_ int, v *record.Invocation) bool {
	return v.ID > 0 && x.id(v.ID) && possible(v.Assigned, v.Sent, v.Received, v.Done) && v.RetryAfter >= 0 &&
		among(v.Function, len(x.run.Functions)) && x.ofInstance(v.Instance) &&
		among(v.Slot, plan.MostPerInstance) && x.wire(v.Source, v.Wire) && v.Batch >= 0 && v.Status >= 0 &&
		v.Reply >= 0 &&
		v.Timing >= 0 && v.Class <= engine.First && v.Result < engine.Results
}

func (x *extent) attempt(_ int, a *record.Attempt) bool {
	return a.Event >= 0 && a.Event < x.events && x.id(a.Invocation) && x.wire(a.Source, a.Wire) && a.N >= 0 &&
		a.Result < engine.Results
}

func (x *extent) delivery(_ int, d *record.Delivery) bool {
	return d.Event >= 0 && d.Event < x.events && x.id(d.Invocation) && possible(d.Ended) &&
		x.wire(d.Source, d.Wire) && d.Attempts >= 0 && d.Outcome < engine.Outcomes && d.Cause < engine.Causes
}

func (x *extent) level(_ int, l *record.Level) bool {
	return possible(l.At) && among(l.Function, len(x.run.Functions)) &&
		min(l.Waiting, l.InFlight, l.Starting, l.Ready) >= 0
}

func (x *extent) call(_ int, c *record.Call) bool {
	return x.id(c.Invocation) && possible(c.Began, c.First, c.Done, c.Waited) && c.Status >= 0 && c.Label >= 0 &&
		c.Among >= 0 && among(c.Upstream, len(x.run.Upstreams)) && among(c.Function, len(x.run.Functions)) &&
		(c.Instance == -1 || x.ofInstance(c.Instance)) && c.Way <= record.CallPlanned && c.Failed <= record.CallLeft
}

func (x *extent) span(_ int, s *record.Span) bool {
	return s.Event >= 0 && x.id(s.Invocation) && among(s.Function, len(x.run.Functions)) && s.Name >= 0 &&
		s.Attributes >= 0 // its times are the function's own word
}

func (x *extent) load(_ int, m *record.MachineLoad) bool {
	return possible(m.At)
}

// instances reads a block of instances.
func (x *extent) instances(data []byte) (some []record.Instance, err error) {
	if err := ReadJSON(data, &some); err != nil {
		return nil, err
	}
	for i := range some {
		in := &some[i]
		if in.ID < 0 || !among(in.Function, len(x.run.Functions)) ||
			!possible(in.Spawned, in.Exec, in.Ready, in.Stopped) || in.Reason > engine.OutOfMemory ||
			in.Cause >= engine.Causes || in.After > engine.OutOfMemory {
			return nil, errUnsound
		}
	}
	return some, nil
}

// soundHead returns what the head of a run refers to that is not there.
func soundHead(r *record.Run) error {
	n := int32(len(r.Functions))
	for i := range r.Sources {
		for _, f := range r.Sources[i].To {
			if !among(int32(f), int(n)) {
				return fmt.Errorf("source %s leads to a function that the run does not have", r.Sources[i].Name)
			}
		}
	}
	for _, c := range r.Changes {
		if c.Function < -1 || c.Function >= n || !possible(c.At) {
			return errors.New("a change of limits is of a function that the run does not have")
		}
	}
	for _, c := range r.Calm {
		if !among(c.Function, int(n)) {
			return errors.New("a calm pass is of a function that the run does not have")
		}
	}
	if !possible(r.Length, r.Begins, r.LastDue) || r.Length < 0 {
		return errors.New("its length is not one")
	}
	return nil
}
