package engine

import (
	"time"

	"nightdrill.dev/internal/core/plan"
)

// arrival is an event that comes.
type arrival struct {
	source, key int32
	takes       uint64
	delay       time.Duration
	async       bool
	from        int64
	origin      Origin
}

// arrive takes an event that fell due: a delivery for each wire that takes it.
func (e *Engine) arrive(a arrival) {
	src := &e.sources[a.source]
	event := e.events
	e.events++
	e.say(Effect{Kind: EventTaken, Source: a.source, Event: event, From: a.from, Origin: a.origin})
	if a.takes == 0 || e.ended {
		outcome := Unmatched
		if a.takes != 0 {
			outcome = Abandoned
		}
		e.say(Effect{Kind: Ended, Source: a.source, Wire: -1, Event: event, Outcome: outcome})
		return
	}
	for w := range src.Wires {
		if a.takes&(1<<w) == 0 {
			continue
		}
		box := src.firstBox + int32(w)
		fn := e.inboxes[box].fn
		key := a.key
		if src.Kind == plan.Schedule && src.WhileRunning != plan.Parallel {
			if key = 1; src.WhileRunning == plan.Drop && e.inboxes[box].all > 0 && !e.breaks(dropIgnored) {
				e.say(Effect{Kind: Ended, Function: fn, Source: a.source, Wire: int32(w), Event: event,
					Outcome: Skipped})
				continue
			}
		}
		id := e.newDelivery(box, key)
		d := &e.pool[id]
		d.event, d.async = event, a.async
		e.open++
		if src.MaxAge > 0 && src.Kind == plan.Queue {
			d.age = e.timers.set(e.now.Add(src.MaxAge), timerAge, id, 0)
		}
		if delay := e.hidden(src, a.delay); delay > 0 {
			e.later(id, delay)
			continue
		}
		e.show(id)
	}
}

// hidden returns how long an event cannot be seen: by its own delay, by its
// queue's, or because the next poll is to find it.
func (e *Engine) hidden(src *source, delay time.Duration) time.Duration {
	delay += src.Delay
	if src.Kind == plan.Storage && src.Poll > 0 {
		at := time.Duration(e.now.Add(delay))
		delay += (at/src.Poll+1)*src.Poll - at
	}
	return delay
}

// show makes a delivery visible: it waits for a slot, and may get one immediately.
func (e *Engine) show(id int32) {
	e.enqueue(id)
	box := &e.inboxes[e.pool[id].box]
	fn := int(box.fn)
	e.balance(fn)
	if e.sources[box.source].Kind == plan.HTTP {
		e.seat(id, fn)
	}
}

// seat decides what happens to an HTTP delivery that was not dispatched at
// once: it waits for a starting slot if there is one for it, else up to the
// source's wait, else it is rejected. One whose answer no one waits for waits.
func (e *Engine) seat(id int32, fn int) {
	d := &e.pool[id]
	if d.state != waiting || d.granted {
		return
	}
	f := &e.functions[fn]
	if e.units(f) <= f.claimed*f.limits.PerInstance && !f.limits.TurnAway || d.async && f.limits.Max > 0 {
		d.granted = true
		return
	}
	wait := e.sources[e.inboxes[d.box].source].Wait
	if wait <= 0 || f.limits.Max == 0 || f.limits.TurnAway {
		e.finish(id, Rejected)
		return
	}
	d.timer = e.timers.set(d.since.Add(wait), timerWait, id, 0)
}

// waited: an HTTP delivery found no capacity within the source's wait.
func (e *Engine) waited(id int32) {
	d := &e.pool[id]
	d.timer = -1
	e.finish(id, Rejected)
	e.balance(int(e.inboxes[d.box].fn))
}

// visible: the time in which a delivery could not be seen is over.
func (e *Engine) visible(id int32) {
	e.pool[id].timer = -1
	if !e.ended {
		e.show(id)
	}
}

// expire: a message waited longer than its queue's max_age. One that is being
// worked on is left alone; it expires if the attempt fails.
func (e *Engine) expire(id int32) {
	d := &e.pool[id]
	d.age = -1
	if d.state == working {
		return
	}
	fn := int(e.inboxes[d.box].fn)
	e.finish(id, Expired)
	e.balance(fn)
}

// finish ends a delivery with its one outcome and forgets it.
func (e *Engine) finish(id int32, outcome Outcome) {
	d := &e.pool[id]
	box := &e.inboxes[d.box]
	if d.state == waiting {
		e.unlink(id)
	}
	e.timers.cancel(&d.timer)
	e.timers.cancel(&d.age)
	cause := NoCause
	if outcome == Rejected {
		cause = e.refusal(&e.functions[box.fn])
	}
	if e.breaks(endedTwice) {
		e.say(Effect{Kind: Ended, Function: box.fn, Source: box.source, Wire: box.wire, Event: d.event,
			Outcome: outcome, Cause: cause})
	}
	if e.breaks(lostDelivery) && d.event%16 == 5 {
		e.become(d, unused)
		e.open--
		return
	}
	e.say(Effect{Kind: Ended, Function: box.fn, Source: box.source, Wire: box.wire, Event: d.event, Outcome: outcome,
		Cause: cause, Attempt: d.attempts, Invocation: d.last})
	e.forgetDelivery(id)
	e.open--
}

// refusal returns why a function has no room for one more.
func (e *Engine) refusal(f *function) Cause {
	switch {
	case f.limits.TurnAway:
		return TurnedAway
	case f.limits.Max == 0:
		return LimitZero
	case f.used()+1 > f.limits.Max:
		return AtLimit
	case !e.room(f, f.used()+1):
		return AtProject
	case f.paceTimer >= 0:
		return StartsBounded
	}
	return PlacesHeld
}
