package runner

import (
	"errors"
	"fmt"
	"slices"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/transport"
)

// ErrLater is why published events are not taken just now.
type ErrLater struct{ Text string }

func (e *ErrLater) Error() string { return e.Text }

// publisher returns the event of the invocation that a trace context is of; -1 where it is of none here, which may
// be anything else that is traced.
func (d *Runner) publisher(trace string, events int64) int64 {
	run, event, _, ok := transport.ParseTraceparent(trace)
	if !ok || run != d.trace|1 || event < 0 || event >= events {
		return -1
	}
	return event
}

// mostPublished is how many events may be published in a drill.
const mostPublished = 1_000_000

// Publish hands events in that were published to a source while the drill runs, all of them or none. trace is the
// trace context of who published them: where it is of an invocation here, they are steps of its chain.
func (d *Drill) Publish(source int, all []payload.Payload, trace string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case !d.opened || d.began.IsZero():
		return &ErrLater{"the drill has not begun yet"}
	case d.over || d.closing:
		return &ErrLater{"the drill is ending"}
	case d.cold != nil: // its starts are measured one at a time
		d.note("events that functions published were not delivered: a drill of cold starts sends its own alone")
		return nil
	}
	if d.published+len(all) > mostPublished {
		return &ErrLater{fmt.Sprintf("a drill takes at most %d published events", mostPublished)}
	}
	from := d.publisher(trace, int64(len(d.events)))
	if from >= 0 && d.chainSteps(from) >= d.p.Steps {
		d.note(fmt.Sprintf("a chain was stopped after %d steps (chain_steps)", d.p.Steps))
		return fmt.Errorf("this would be step %d of a chain, and chain_steps is %d", d.chainSteps(from)+1, d.p.Steps)
	}
	d.published += len(all)
	for i := range all {
		_, number := d.chainedPayload(&all[i])
		now := d.now()
		d.taken = arrivalInfo{record.Arrival{Due: now, From: from, Payload: number, Source: int32(source),
			Round: int32(len(d.rec.Arrivals)), Origin: engine.FromPublish}, eventInfo{feed: -1, caller: -1}, nil}
		if from >= 0 {
			d.taken.info.steps = d.events[from].steps + 1
		}
		d.stepLocked(d.arrived(&d.taken), nil)
	}
	return nil
}

// HandIn hands an event in that came to a source from a broker while the drill runs; done, if not nil, is called once
// all its deliveries have their outcome, and must not block. An error that is an [ErrLater] passes; [ErrLive] is that
// none are taken any more.
func (d *Drill) HandIn(source int, p *payload.Payload, done func(failed bool)) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case !d.opened || d.began.IsZero():
		return &ErrLater{"the drill has not begun yet"}
	case d.over || d.closing || d.now() >= d.opens.Add(d.live) || d.published >= mostPublished:
		return ErrLive
	}
	d.published++
	_, number := d.chainedPayload(p)
	now := d.now()
	d.taken = arrivalInfo{record.Arrival{Due: now, From: -1, Payload: number, Source: int32(source),
		Round: int32(len(d.rec.Arrivals))}, eventInfo{feed: -1, caller: -1, done: done}, nil}
	d.stepLocked(d.arrived(&d.taken), nil)
	return nil
}

// Note adds a note to the run, once.
func (d *Drill) Note(text string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !slices.Contains(d.notes, text) {
		d.notes = append(d.notes, text)
	}
}

// ErrLive is why events of brokers are not taken: the time for which they are is over.
var ErrLive = errors.New("the drill takes no more events of brokers")

// Expect keeps the chain open that published events are part of, by their trace context, until Came: they are handed in
// one at a time, and what published them may be over before. It returns the event whose invocation published them, nil
// where that is not known or over, and an error where the chain is too long.
func (d *Follower) Expect(trace string, events int) (*Trace, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	by := d.traces[d.publisher(trace, 1<<62)]
	if by == nil {
		return nil, nil
	}
	if by.Steps >= d.p.Steps {
		return nil, fmt.Errorf("this would be step %d of a chain, and chain_steps is %d", by.Steps+1, d.p.Steps)
	}
	by.Coming += events
	by.whole.open += events
	return by, nil
}

// Came notes that an event that was expected was handed in, or will not be. by may be nil.
func (d *Follower) Came(by *Trace) {
	if by == nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	by.Coming--
	by.whole.close()
}

// Publish hands an event in that was published to a source, by an event of [Follower.Expect].
func (d *Follower) Publish(s Event, by *Trace) *Trace {
	s.published, s.publishedBy = true, by
	return d.Fire(s)
}
