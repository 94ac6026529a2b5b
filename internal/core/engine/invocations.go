package engine

import (
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// send hands the next batch of an inbox to a free slot.
func (e *Engine) send(f *function, fn, id, box int32) {
	in := &e.instances[id]
	src := &e.sources[e.inboxes[box].source]
	head, n := e.pull(box)
	s := in.vacant[len(in.vacant)-1]
	in.vacant = in.vacant[:len(in.vacant)-1]
	e.handed++
	class := Warm
	switch {
	case f.attached: // its start was not seen
	case f.oneShot:
		class = Cold
	case id == e.justNow:
		class = Cold
	case !in.answered:
		class = First
	}
	sl := &in.slots[s]
	*sl = slot{invocation: e.handed, state: slotBusy, head: head, lease: -1, timeout: -1}
	if !f.held || e.breaks(heldIgnored) {
		e.limitTime(f, id, s, src.Source)
	}
	first := int32(len(e.out.Events))
	for d := head; d >= 0; d = e.pool[d].next {
		x := &e.pool[d]
		x.instance, x.invocation, x.last = id, e.handed, e.handed
		e.out.Events = append(e.out.Events, e.pool[d].event)
	}
	in.active++
	e.use(f, 1, 0)
	e.say(Effect{Kind: Send, Function: fn, Instance: id, Number: in.number, Slot: s, Invocation: e.handed, Class: class,
		Source: e.inboxes[box].source, Wire: e.inboxes[box].wire, First: first, N: int32(n),
		Attempt: e.pool[head].attempts})
	e.touch(id)
}

// limitTime sets the timeout and the lease of a slot's invocation from now on.
func (e *Engine) limitTime(f *function, id, s int32, src *plan.Source) {
	sl := &e.instances[id].slots[s]
	sl.timeout = e.timers.set(e.now.Add(f.timeout), timerTimeout, id, s)
	if src != nil && src.Lease > 0 {
		sl.leaseEnd, sl.leaseLast = e.now.Add(src.Lease), e.now.Add(src.LeaseMost)
		sl.lease = e.timers.set(sl.leaseEnd, timerLease, id, s)
	}
}

// answered settles the invocation of a slot, well or badly.
func (e *Engine) answered(input Input) {
	in := &e.instances[input.Instance]
	sl := &in.slots[input.Slot]
	if sl.invocation != input.Invocation || sl.state == slotFree {
		return
	}
	if sl.state == slotLate {
		e.say(Effect{Kind: Late, Function: in.fn, Instance: input.Instance, Slot: input.Slot,
			Invocation: sl.invocation})
		sl.state = slotFree
		in.vacant = append(in.vacant, input.Slot)
		return
	}
	if sl.state == slotOrphan {
		e.say(Effect{Kind: Late, Function: in.fn, Instance: input.Instance, Slot: input.Slot,
			Invocation: sl.invocation})
	}
	in.answered = in.answered || input.Kind == Answered
	leaseEnd := sl.leaseEnd
	head := e.settleSlot(input.Instance, input.Slot)
	sl.state = slotFree
	in.vacant = append(in.vacant, input.Slot)
	e.settleAnswer(head, &input, leaseEnd)
	switch in = &e.instances[input.Instance]; {
	case in.state == draining && in.active == 0:
		e.stop(input.Instance, in.why)
	case in.state == ready && e.functions[in.fn].oneShot:
		e.stop(input.Instance, Finished)
	case in.state == ready:
		e.touch(input.Instance)
	}
	e.balance(int(in.fn))
}

// settleAnswer ends the attempts of a batch as an answer says, and sends the reply on.
func (e *Engine) settleAnswer(head int32, input *Input, leaseEnd clock.Time) {
	if head < 0 {
		return
	}
	event := e.pool[head].event
	http := e.sources[e.inboxes[e.pool[head].box].source].Kind == plan.HTTP
	v := verdict{status: input.Status, retry: input.Retry, retryAfter: input.RetryAfter, why: input.Result}
	if input.Kind == Answered {
		v.why = BadStatus
		v.good = http && input.Status < 500 || !http && input.Status >= 200 && input.Status < 300
	}
	if v.good && input.AckLost && !e.breaks(ackKept) {
		// a message comes again when its lease is over, which no one ended
		v.good, v.why, v.pause = false, AckLost, leaseEnd.Sub(e.now)
	}
	e.settleBatch(head, &v)
	if !v.good {
		return
	}
	for _, t := range input.Then {
		e.arrive(arrival{source: t.Source, takes: t.Takes, key: t.Key, from: event, origin: FromReply})
	}
}

// settleSlot takes the invocation of a slot out of all counts and returns the
// deliveries that still depended on it. The slot's state is the caller's to set.
func (e *Engine) settleSlot(id, s int32) (head int32) {
	in := &e.instances[id]
	sl := &in.slots[s]
	head, sl.head = sl.head, -1
	e.timers.cancel(&sl.timeout)
	e.timers.cancel(&sl.lease)
	in.active--
	e.use(&e.functions[in.fn], -1, 0)
	return head
}

// timedOut: an invocation took longer than the function's timeout. The attempt
// is over and the instance is drained; its neighbours may finish.
func (e *Engine) timedOut(id, s int32) {
	sl := &e.instances[id].slots[s]
	sl.timeout = -1
	head := e.settleSlot(id, s)
	sl.state = slotLate
	in := &e.instances[id]
	e.say(Effect{Kind: GivenUp, Function: in.fn, Instance: id, Number: in.number, Slot: s, Invocation: sl.invocation})
	e.failBatch(head, Timeout)
	e.drain(id, TimedOut)
	e.balance(int(e.instances[id].fn))
}

// leaseLost: the lease ran out before the answer. The messages are free for
// others; the function still works.
func (e *Engine) leaseLost(id, s int32) {
	sl := &e.instances[id].slots[s]
	sl.lease = -1
	if e.now < sl.leaseLast {
		sl.leaseEnd = min(e.now.Add(e.sources[e.inboxes[e.pool[sl.head].box].source].Lease), sl.leaseLast)
		sl.lease = e.timers.set(sl.leaseEnd, timerLease, id, s)
		in := &e.instances[id]
		e.say(Effect{Kind: Extended, Function: in.fn, Instance: id, Number: in.number, Slot: s,
			Invocation: sl.invocation})
		return
	}
	head := sl.head
	sl.head, sl.state = -1, slotOrphan
	if e.breaks(sentTwice) { // again without the first attempt having ended
		for d := head; d >= 0; {
			next := e.pool[d].next
			e.enqueue(d)
			d = next
		}
		head = -1
	}
	e.failBatch(head, LeaseOver)
	e.balance(int(e.instances[id].fn))
}
