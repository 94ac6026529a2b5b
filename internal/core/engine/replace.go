package engine

// replace begins a new version of a function's code. What is still starting
// with the old one is stopped at once; what runs is replaced one by one, each
// by a new instance that is ready before the old one is drained, so that no
// event finds less than there was.
func (e *Engine) replace(fn int) {
	f := &e.functions[fn]
	f.version++
	for i := len(f.starting) - 1; i >= 0; i-- {
		e.stop(f.starting[i], Replaced)
	}
	f.outdated = len(f.instances)
	e.balance(fn)
}

// replaceOne starts the instance that takes the next older one's place. It may
// be one more than the limits allow.
func (e *Engine) replaceOne(f *function, fn int32) {
	if f.outdated == 0 || f.replacing >= 0 || f.limits.Max == 0 || len(f.instances) > f.limits.Instances() || e.older(f) < 0 {
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
