package engine

import "nightdrill/internal/core/plan"

// replace begins a new version of a function's code. What is still starting
// with the old one is stopped at once; what runs is replaced one by one, each
// by a new instance that is ready before the old one is drained, so that no
// event finds less than there was.
func (e *Engine) replace(fn int) {
	f := &e.functions[fn]
	f.version++
	f.failures, f.notBefore = 0, e.now // what failed was the old one
	for i := len(f.starting) - 1; i >= 0; i-- {
		e.stop(f.starting[i], Replaced)
	}
	f.outdated = len(f.instances)
	e.balance(fn)
}

// replaceOne starts the instance that takes the next older one's place. It may
// be one more than the limits allow.
func (e *Engine) replaceOne(f *function, fn int32) {
	if f.outdated == 0 || f.replacing >= 0 || f.limits.Max == 0 || len(f.instances) > f.most() || e.older(f) < 0 {
		return
	}
	f.replacing = e.start(fn)
}

// older gives the instance of an older version that is to go next: the least
// recently used idle one, else the first that is busy; -1 when there is none.
func (e *Engine) older(f *function) int32 {
	for id := f.idle.oldest; id >= 0; id = e.instances[id].links[byIdle].newer {
		if e.instances[id].version != f.version {
			return id
		}
	}
	for _, id := range f.instances {
		if in := &e.instances[id]; in.state == ready && in.version != f.version {
			return id
		}
	}
	return -1
}

// clear stops a function's instances: those that start and those that are idle
// at once, the busy when they have finished. What comes next finds none.
func (e *Engine) clear(fn int) {
	f := &e.functions[fn]
	f.failures, f.notBefore = 0, e.now
	for i := len(f.starting) - 1; i >= 0; i-- {
		e.stop(f.starting[i], Cleared)
	}
	for f.idle.oldest >= 0 {
		e.stop(f.idle.oldest, Cleared)
	}
	for i := len(f.instances) - 1; i >= 0; i-- {
		if id := f.instances[i]; e.instances[id].state == ready {
			e.drain(id, Cleared)
		}
	}
	e.balance(fn)
}

// hold puts a function's time-outs, leases and idle stops off until they are
// released, and keeps it to one instance, so that somebody may look at it as
// long as they like. Released, all times begin anew.
func (e *Engine) hold(fn int, held bool) {
	f := &e.functions[fn]
	if f.held == held {
		return
	}
	f.held = held
	e.shrink(fn)
	for _, id := range f.instances {
		in := &e.instances[id]
		if in.state == starting {
			e.timers.cancel(&in.timer)
			if !held {
				in.timer = e.timers.set(e.now.Add(f.startTimeout), timerStart, id, 0)
			}
		}
		for s := range in.slots {
			sl := &in.slots[s]
			if !sl.active() {
				continue
			}
			e.timers.cancel(&sl.timeout)
			e.timers.cancel(&sl.lease)
			if !held {
				var src *plan.Source
				if sl.head >= 0 {
					src = e.sources[e.boxes[e.pool[sl.head].box].source].Source
				}
				e.limitTime(f, id, int32(s), src)
			}
		}
	}
	e.balance(fn)
}
