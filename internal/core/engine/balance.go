package engine

import (
	"time"

	"nightdrill.dev/internal/core/clock"
)

// fits reports whether a function may have `use` invocations in flight and
// instances starting for waiting ones. The project's limit leaves to each of
// the others what it uses, or what is guaranteed for it.
func (e *Engine) fits(f *function, use int) bool {
	if use > f.limits.Max && !e.breaks(limitIgnored) {
		return false
	}
	if !e.room(f, use) {
		e.block(f)
		return false
	}
	return true
}

func (e *Engine) room(f *function, use int) bool {
	others := e.reserved - f.share()
	if e.breaks(guaranteeIgnored) {
		others = e.used - f.used()
	}
	return use+others <= e.limit || use <= f.limits.Guaranteed || e.breaks(projectLimitIgnored)
}

func (e *Engine) block(f *function) {
	if !f.blocked {
		f.blocked = true
		e.blocked++
	}
}

// balance dispatches what can be dispatched, starts what must be started and
// marks what is idle above keep_warm: for a function, and for those that wait
// for the project's limit. Who has waited longest goes first.
func (e *Engine) balance(fn int) {
	if e.ended {
		return
	}
	f := &e.functions[fn]
	if e.blocked > 0 {
		e.unblock(e.waitingSince(f))
	}
	e.balanceOne(f, int32(fn))
	e.unblock(clock.Never)
}

// unblock lets functions continue that wait for the project's limit, where it has room for them,
// and as long as they have waited since before a time.
func (e *Engine) unblock(before clock.Time) {
	done, last := clock.Time(-1), -1 // how far we are, by time of waiting and number
	for e.blocked > 0 {
		next, since := -1, before
		for i := range e.functions {
			f := &e.functions[i]
			if !f.blocked {
				continue
			}
			at := e.waitingSince(f)
			if (at > done || at == done && i > last) && at < since {
				next, since = i, at
			}
		}
		if next < 0 {
			return
		}
		done, last = since, next
		if f := &e.functions[next]; e.room(f, f.used()+1) {
			f.blocked = false
			e.blocked--
			e.balanceOne(f, int32(next))
		}
	}
}

// waitingSince returns the time from which on an invocation waits for the
// function, or never.
func (e *Engine) waitingSince(f *function) clock.Time {
	_, since := e.oldest(f)
	return since
}

func (e *Engine) balanceOne(f *function, fn int32) {
	per := f.limits.PerInstance
	units := e.units(f)
	if f.limits.TurnAway && !e.breaks(turnAwayIgnored) {
		units = 0
	}
	// dispatch
	for units > 0 && f.free.newest >= 0 {
		// a claim may be given up for this one
		claims := min(f.claimed, (units-1+per-1)/per)
		if use := f.inFlight + 1 + claims; use > f.used() && !e.fits(f, use) || f.inFlight+1 > f.limits.Max &&
			!e.breaks(limitIgnored) {
			break
		}
		box, _ := e.oldest(f)
		for f.claimed > claims {
			e.unclaim(f)
		}
		e.send(f, fn, f.free.newest, box)
		units = e.units(f)
	}
	// give up claims that no one needs
	for f.claimed > 0 && (f.claimed-1)*per >= units {
		e.unclaim(f)
	}
	// count on starting instances, or start more
	before := f.claimed
	for units > f.claimed*per && e.fits(f, f.used()+1) {
		id := int32(-1)
		for _, s := range f.starting {
			if !e.instances[s].claimed {
				id = s
				break
			}
		}
		if id < 0 {
			if len(f.instances) >= f.most() || !e.mayStart(f, fn) {
				break
			}
			id = e.start(fn, e.startCause(f))
		}
		e.instances[id].claimed = true
		e.use(f, 0, 1)
	}
	e.replaceSome(f, fn)
	for len(f.instances) < min(f.limits.KeepWarm, f.most()) && !e.breaks(keepWarmIgnored) && e.mayStart(f, fn) {
		e.start(fn, KeptWarm)
	}
	e.mark(f)
	if f.claimed > before {
		e.grant(f)
	}
}

// mayStart reports whether the bound on starts allows one now, and has the function
// looked at again when it does. It is the generic cell rate algorithm: a start
// takes StartEvery, and StartBurst of them may be taken in advance.
func (e *Engine) mayStart(f *function, fn int32) bool {
	every := f.limits.StartEvery
	if every <= 0 || e.breaks(paceIgnored) {
		return true
	}
	at := f.paceAt(f.planned)
	if e.now >= at {
		return true
	}
	if f.paceTimer < 0 {
		f.paceTimer = e.timers.set(at, timerPace, fn, 0)
	}
	return false
}

// paceAt returns when an instance may be started, with others to go before it.
func (f *function) paceAt(before int) clock.Time {
	return f.paced.Add(f.limits.StartEvery * time.Duration(before+1-max(f.limits.StartBurst, 1)))
}

// startCause returns why a waiting invocation needs one more instance.
func (e *Engine) startCause(f *function) Cause {
	switch {
	case len(f.instances) > len(f.starting):
		return AllBusy
	case f.gone:
		return AfterStop
	}
	return NothingThere
}

// most returns how many instances the function may have.
func (f *function) most() int {
	if f.held {
		return min(1, f.limits.Instances())
	}
	return f.limits.Instances()
}

// used is what counts against the concurrency limit.
func (f *function) used() int { return f.inFlight + f.claimed }

// share is what the function takes of the project's limit.
func (f *function) share() int { return max(f.used(), f.limits.Guaranteed) }

// use changes what a function has in flight and how many starting instances
// are claimed.
func (e *Engine) use(f *function, inFlight, claimed int) {
	e.used -= f.used()
	e.reserved -= f.share()
	f.inFlight += inFlight
	f.claimed += claimed
	e.used += f.used()
	e.reserved += f.share()
}
