package engine

import (
	"slices"

	"nightdrill.dev/internal/core/clock"
)

type instanceState uint8

const (
	planned  instanceState = iota // waits for the pause after a failed start
	starting                      // Start was said
	ready                         // takes invocations
	draining                      // finishes what it has
	stopping                      // Stop was said
	gone
)

// instance is one process of a function.
type instance struct {
	fn, number int32
	state      instanceState
	claimed    bool   // a waiting invocation counts on it
	answered   bool   // it has answered once
	above      bool   // idle above keep_warm
	cause      Cause  // of its start
	after      Reason // for which the last one before it had gone
	why        Reason // of draining
	version    int32
	active     int32 // slots with an invocation that counts
	aboveSince clock.Time
	lastUsed   clock.Time
	timer      int32 // spawn, start or idle: one at a time
	slots      []slot
	vacant     []int32
	links      [2]link
}

type slotState uint8

const (
	slotFree slotState = iota
	slotBusy
	slotOrphan // its lease ran out; the function still works on it
	slotLate   // it timed out; nothing that comes counts
)

type slot struct {
	invocation uint64
	state      slotState
	head       int32 // deliveries of the batch
	timeout    int32
	lease      int32
	leaseEnd   clock.Time // 0 without one
	leaseLast  clock.Time // up to where it may be extended
}

// active reports whether the slot counts as in flight.
func (s *slot) active() bool { return s.state == slotBusy || s.state == slotOrphan }

// The two lists that instances are in: those with nothing to do, and those
// with a free slot. Both are ordered by last use.
const (
	byIdle = 0
	byFree = 1
)

type link struct {
	older, newer int32
	in           bool
}

// list is a list of instances in the order of their last use.
type list struct {
	which          int
	newest, oldest int32
	n              int
}

func newList(which int) list { return list{which: which, newest: -1, oldest: -1} }

// put enters an instance that was used now, behind those that were used now
// too and have a lower number.
func (e *Engine) put(l *list, id int32) {
	in := &e.instances[id]
	newer, older := int32(-1), l.newest
	for older >= 0 && e.instances[older].lastUsed == in.lastUsed && e.instances[older].number < in.number {
		newer, older = older, e.instances[older].links[l.which].older
	}
	in.links[l.which] = link{older: older, newer: newer, in: true}
	if newer >= 0 {
		e.instances[newer].links[l.which].older = id
	} else {
		l.newest = id
	}
	if older >= 0 {
		e.instances[older].links[l.which].newer = id
	} else {
		l.oldest = id
	}
	l.n++
}

func (e *Engine) takeOut(l *list, id int32) {
	k := &e.instances[id].links[l.which]
	if !k.in {
		return
	}
	if k.newer >= 0 {
		e.instances[k.newer].links[l.which].older = k.older
	} else {
		l.newest = k.older
	}
	if k.older >= 0 {
		e.instances[k.older].links[l.which].newer = k.newer
	} else {
		l.oldest = k.newer
	}
	*k = link{}
	l.n--
}

// touch moves an instance to where its use now puts it in both lists.
func (e *Engine) touch(id int32) {
	in := &e.instances[id]
	f := &e.functions[in.fn]
	in.lastUsed = e.now
	e.leave(id)
	if in.state != ready {
		return
	}
	if e.hasRoom(in, f) {
		e.put(&f.free, id)
	}
	if in.active == 0 {
		e.put(&f.idle, id)
	}
}

// hasRoom reports whether a slot is free that the function's limits allow.
func (e *Engine) hasRoom(in *instance, f *function) bool {
	return len(in.vacant) > len(in.slots)-f.limits.PerInstance || len(in.vacant) > 0 && e.breaks(slotsOverfilled)
}

// widen lets every instance have as many slots as it may have now. Slots beyond a lowered limit stay,
// and are not used.
func (e *Engine) widen(f *function, per int) {
	for _, id := range f.instances {
		in := &e.instances[id]
		for len(in.slots) < per {
			in.vacant = append(in.vacant, int32(len(in.slots)))
			in.slots = append(in.slots, slot{head: -1, timeout: -1, lease: -1})
		}
	}
}

// leave takes an instance out of both lists and forgets its idle stop.
func (e *Engine) leave(id int32) {
	in := &e.instances[id]
	f := &e.functions[in.fn]
	e.takeOut(&f.free, id)
	e.takeOut(&f.idle, id)
	if in.above {
		in.above = false
		f.above--
		e.timers.cancel(&in.timer)
	}
}

// unclaim drops the claim on the newest claimed starting instance. One that is only planned is
// not needed then.
func (e *Engine) unclaim(f *function) {
	for i := len(f.starting) - 1; i >= 0; i-- {
		in := &e.instances[f.starting[i]]
		if !in.claimed {
			continue
		}
		in.claimed = false
		e.use(f, 0, -1)
		if in.state == planned && len(f.instances) > f.limits.KeepWarm {
			e.stop(f.starting[i], Idle)
		}
		return
	}
}

// mark keeps the least recently used idle instances above keep_warm marked,
// each with the time of its stop.
func (e *Engine) mark(f *function) {
	want := min(max(len(f.instances)-f.limits.KeepWarm, 0), f.idle.n)
	if f.held && !e.breaks(heldIgnored) {
		want = 0
	}
	if f.above == want {
		return
	}
	// those that are marked stand at the old end; what is to change is near the new one
	id := f.idle.newest
	for ; f.above > want; id = e.instances[id].links[byIdle].older {
		if in := &e.instances[id]; in.above {
			in.above = false
			e.timers.cancel(&in.timer)
			f.above--
		}
	}
	if f.above == want {
		return
	}
	last := int32(-1) // the oldest that is not marked
	for left := f.idle.n - f.above; left > 0; id = e.instances[id].links[byIdle].older {
		if !e.instances[id].above {
			last, left = id, left-1
		}
	}
	for id = last; f.above < want; id = e.instances[id].links[byIdle].newer {
		in := &e.instances[id]
		if in.above {
			continue
		}
		in.above, in.aboveSince = true, e.now
		after := f.limits.IdleAfter
		if e.breaks(idleTooEarly) {
			after /= 2
		}
		in.timer = e.timers.set(e.now.Add(after), timerIdle, id, 0)
		f.above++
	}
}

// start plans an instance, at once or after the pause that failed starts ask for.
func (e *Engine) start(fn int32, cause Cause) int32 {
	f := &e.functions[fn]
	f.number++
	id := int32(len(e.instances))
	per := f.limits.PerInstance
	in := instance{fn: fn, number: f.number, version: f.version, cause: cause, after: f.goneFor, state: planned,
		timer: -1, slots: make([]slot, per), vacant: make([]int32, per)}
	if e.breaks(slotsOverfilled) {
		in.slots, in.vacant = make([]slot, per+1), append(in.vacant, int32(per))
		in.slots[per] = slot{head: -1, timeout: -1, lease: -1}
	}
	for i := range per {
		in.slots[i] = slot{head: -1, timeout: -1, lease: -1}
		in.vacant[i] = int32(per - 1 - i)
	}
	e.instances = append(e.instances, in)
	f.instances = append(f.instances, id)
	f.starting = append(f.starting, id)
	f.planned++
	e.spawn(id)
	return id
}

func (e *Engine) spawn(id int32) {
	in := &e.instances[id]
	f := &e.functions[in.fn]
	at := f.notBefore
	if f.limits.StartEvery > 0 && !e.breaks(paceIgnored) {
		at = max(at, f.paceAt(0))
	}
	if e.now < at {
		in.timer = e.timers.set(at, timerSpawn, id, 0)
		return
	}
	f.planned--
	f.paced = max(f.paced, e.now).Add(f.limits.StartEvery)
	in.state = starting
	if !f.held {
		in.timer = e.timers.set(e.now.Add(f.startTimeout), timerStart, id, 0)
	}
	start := Effect{Kind: Start, Function: in.fn, Instance: id, Number: in.number, Version: in.version, Cause: in.cause}
	if in.cause == AfterStop {
		start.Reason = in.after
	}
	e.say(start)
}

func (e *Engine) ready(id int32) {
	in := &e.instances[id]
	if in.state != starting {
		return
	}
	f := &e.functions[in.fn]
	e.timers.cancel(&in.timer)
	e.leaveStarting(f, id)
	in.state = ready
	f.failures = 0
	e.touch(id)
	e.justNow = id
	if f.replacing == id {
		f.replacing = -1
		if old := e.older(f); old >= 0 {
			e.drain(old, Replaced)
		}
	}
	e.balance(int(in.fn))
}

// leaveStarting takes an instance from those that are starting, and its claim back.
func (e *Engine) leaveStarting(f *function, id int32) {
	if i := slices.Index(f.starting, id); i >= 0 {
		f.starting = slices.Delete(f.starting, i, i+1)
	}
	if in := &e.instances[id]; in.claimed {
		in.claimed = false
		e.use(f, 0, -1)
	}
}

// drain lets an instance finish what it has, and then stops it.
func (e *Engine) drain(id int32, why Reason) {
	in := &e.instances[id]
	if in.state == ready {
		in.state, in.why = draining, why
		e.leave(id)
	}
	if in.state == draining && in.active == 0 {
		e.stop(id, in.why)
	}
}

// stop ends an instance that has nothing in flight that counts, or never began.
func (e *Engine) stop(id int32, why Reason) {
	in := &e.instances[id]
	f := &e.functions[in.fn]
	e.leave(id)
	e.timers.cancel(&in.timer)
	e.leaveStarting(f, id)
	e.forget(f, id)
	if in.state == planned {
		f.planned--
		in.state = gone
		return
	}
	if in.state != starting {
		f.gone, f.goneFor = true, why
	}
	in.state = stopping
	e.say(Effect{Kind: Stop, Function: in.fn, Instance: id, Number: in.number, Reason: why})
}

func (e *Engine) forget(f *function, id int32) {
	if f.replacing == id {
		f.replacing = -1
	}
	if i := slices.Index(f.instances, id); i >= 0 {
		f.instances = slices.Delete(f.instances, i, i+1)
		if e.instances[id].version != f.version {
			f.outdated--
		}
	}
}

// exited: the process of an instance is gone.
func (e *Engine) exited(id int32) {
	in := &e.instances[id]
	f := &e.functions[in.fn]
	switch in.state {
	case planned, starting:
		if in.state == planned {
			f.planned--
		}
		e.leaveStarting(f, id)
		e.timers.cancel(&in.timer)
		e.forget(f, id)
		in.state = gone
		e.startFailed(in.fn)
	case ready, draining:
		e.leave(id)
		e.forget(f, id)
		f.gone, f.goneFor = true, Crashed
		in.state = gone
		for s := range in.slots {
			if e.instances[id].slots[s].active() {
				head := e.settleSlot(id, int32(s))
				e.failBatch(head, Crash)
			}
			e.instances[id].slots[s].state = slotFree
		}
	case stopping:
		in.state = gone
		for s := range in.slots {
			in.slots[s].state = slotFree
		}
	}
	e.balance(int(e.instances[id].fn))
}

func (e *Engine) startTimedOut(id int32) {
	fn := e.instances[id].fn
	e.stop(id, NeverReady)
	e.startFailed(fn)
	e.balance(int(fn))
}

// startFailed delays the next start, and costs the oldest waiting invocation an attempt.
func (e *Engine) startFailed(fn int32) {
	f := &e.functions[fn]
	f.failures++
	f.notBefore = e.now.Add(min(firstBackoff<<min(f.failures-1, 10), mostBackoff))
	box, _ := e.oldest(f)
	if box < 0 {
		return
	}
	head, _ := e.pull(box)
	for d := head; d >= 0; d = e.pool[d].next {
		e.pool[d].instance, e.pool[d].invocation = -1, 0
	}
	e.failBatch(head, StartFailure)
}
