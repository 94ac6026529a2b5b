package engine

import "nightdrill.dev/internal/core/plan"

// replace begins a new version of a function's code. What is still starting
// with the old one is stopped at once; what runs is replaced in the function's way.
func (e *Engine) replace(fn int) {
	f := &e.functions[fn]
	f.version++
	f.failures, f.notBefore = 0, e.now // what failed was the old one
	for i := len(f.starting) - 1; i >= 0; i-- {
		e.stop(f.starting[i], Replaced)
	}
	f.outdated = len(f.instances)
	f.renew = 0
	if f.mode == plan.AtOnce {
		f.renew = f.outdated
		e.drainAll(f, Replaced)
	}
	e.balance(fn)
}

// drainAll drains the instances of older versions.
func (e *Engine) drainAll(f *function, why Reason) {
	for i := len(f.instances) - 1; i >= 0; i-- {
		if id := f.instances[i]; e.instances[id].state == ready && e.instances[id].version != f.version {
			e.drain(id, why)
		}
	}
}

// replaceSome starts what is to take the place of older instances.
func (e *Engine) replaceSome(f *function, fn int32) {
	switch {
	case f.limits.Max == 0:
	case f.mode == plan.OneByOne:
		e.replaceOne(f, fn)
	case f.mode == plan.AtOnce:
		for len(f.instances)-f.outdated < f.renew && len(f.instances) < f.most() && e.mayStart(f, fn) {
			e.start(fn, NewVersion)
		}
		if len(f.instances)-f.outdated >= min(f.renew, f.most()) {
			f.renew = 0
		}
	case f.outdated > 0:
		e.replaceBeside(f, fn)
	}
}

// replaceBeside starts as many new instances as there are old ones, and drains the
// old ones together when the new are ready. They may be twice as many as the
// limits allow, with as many in flight as ever.
func (e *Engine) replaceBeside(f *function, fn int32) {
	old, fresh := 0, 0
	for _, id := range f.instances {
		switch in := &e.instances[id]; {
		case in.state != ready:
		case in.version == f.version:
			fresh++
		default:
			old++
		}
	}
	for i := 0; old > f.most() && i < len(f.instances); i++ { // of a replacement that was not over
		if id := f.instances[i]; e.instances[id].state == ready && e.instances[id].version != f.version {
			if e.drain(id, Replaced); e.instances[id].state == stopping {
				i--
			}
			old--
		}
	}
	if old == 0 {
		return
	}
	if fresh >= old {
		e.drainAll(f, Replaced)
		return
	}
	for (fresh+len(f.starting) < old || e.breaks(besideIgnored) && len(f.instances) < 30) && e.mayStart(f, fn) {
		e.start(fn, NewVersion)
	}
}

// replaceOne starts the instance that takes the next older one's place. It may
// be one more than the limits allow.
func (e *Engine) replaceOne(f *function, fn int32) {
	if f.outdated == 0 || f.replacing >= 0 || len(f.instances) > f.most() || e.older(f) < 0 || !e.mayStart(f, fn) {
		return
	}
	f.replacing = e.start(fn, NewVersion)
}

// older returns the instance of an older version that is to go next: the least
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

// hold suspends a function's timeouts, leases and idle stops until it is released, and keeps it to
// one instance, so that it can be looked at in a debugger. After the release all times begin anew.
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
					src = e.sources[e.inboxes[e.pool[sl.head].box].source].Source
				}
				e.limitTime(f, id, int32(s), src)
			}
		}
	}
	e.balance(fn)
}
