package engine

import (
	"time"

	"nightdrill.dev/internal/core/plan"
)

// setProject changes the limit for all functions together. What starts for waiting
// ones beyond it is given up; what is in flight finishes.
func (e *Engine) setProject(limit int) {
	e.limit = limit
	for i := range e.functions {
		f := &e.functions[i]
		for e.reserved > e.limit && f.claimed > 0 && f.used() > f.limits.Guaranteed {
			e.unclaim(f)
		}
	}
	for i := range e.functions {
		e.balance(i)
	}
}

// setLimits changes a function's limits: it starts nothing that is not waited
// for, stops the idle and drains the busy where there are too many now.
func (e *Engine) setLimits(fn int, l plan.Limits) {
	f := &e.functions[fn]
	if e.breaks(zeroIgnored) && l.Max == 0 {
		return
	}
	idleChanged := l.IdleAfter != f.limits.IdleAfter
	e.widen(f, l.PerInstance)
	e.reserved -= f.share()
	f.limits = l
	e.reserved += f.share()
	if f.paced = min(f.paced, e.now.Add(l.StartEvery*time.Duration(max(l.StartBurst, 1)))); f.paceTimer >= 0 {
		e.timers.cancel(&f.paceTimer)
	}
	for _, id := range f.instances {
		// per_instance changed
		if in := &e.instances[id]; in.state == ready && in.links[byFree].in != e.hasRoom(in, f) {
			if e.takeOut(&f.free, id); e.hasRoom(in, f) {
				e.put(&f.free, id)
			}
		}
	}
	e.shrink(fn)
	if idleChanged {
		for id := f.idle.oldest; id >= 0; id = e.instances[id].links[byIdle].newer {
			if in := &e.instances[id]; in.above {
				e.timers.cancel(&in.timer)
				in.timer = e.timers.set(max(e.now, in.aboveSince.Add(l.IdleAfter)), timerIdle, id, 0)
			}
		}
	}
	if l.Max == 0 || l.TurnAway && !e.breaks(turnAwayIgnored) {
		e.rejectWaiting(f)
	}
	e.balance(fn)
}

func (e *Engine) rejectWaiting(f *function) {
	for _, b := range f.boxes {
		if e.sources[e.inboxes[b].source].Kind != plan.HTTP {
			continue
		}
		for e.inboxes[b].loose.head >= 0 {
			e.finish(e.inboxes[b].loose.head, Rejected)
		}
	}
}

// shrink brings the instances of a function down to what its limits allow:
// first those that are starting, newest first, then the idle, least recently
// used first, then the busy, which finish what they have.
func (e *Engine) shrink(fn int) {
	f := &e.functions[fn]
	for f.claimed > 0 && (f.used() > f.limits.Max || f.limits.TurnAway) {
		e.unclaim(f)
	}
	most := f.most()
	for len(f.instances) > most && len(f.starting) > 0 {
		e.stop(f.starting[len(f.starting)-1], LimitLowered)
	}
	for len(f.instances) > most && f.idle.oldest >= 0 {
		e.stop(f.idle.oldest, LimitLowered)
	}
	staying := 0
	for _, id := range f.instances {
		if e.instances[id].state != draining {
			staying++
		}
	}
	for i := 0; staying > most && i < len(f.instances); i++ {
		if e.instances[f.instances[i]].state == ready {
			e.drain(f.instances[i], LimitLowered)
			staying--
		}
	}
}
