package engine

import (
	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/plan"
)

type deliveryState uint8

const (
	unused  deliveryState = iota
	waiting               // in its inbox
	working               // with an instance
	pausing               // between two attempts
)

// delivery is one event on its way along one wire.
type delivery struct {
	event      int64
	invocation uint64 // of the current attempt
	last       uint64 // of the last attempt that had one
	arrived    clock.Time
	since      clock.Time // when it began to wait
	box        int32
	next, prev int32 // in its inbox, or next in its batch
	instance   int32 // of the current attempt, or -1
	timer      int32
	age        int32 // timer of max_age
	attempts   int32
	state      deliveryState
	granted    bool // HTTP: a starting slot was there for it, so it waits without bound
}

func (e *Engine) newDelivery() int32 {
	blank := delivery{next: -1, prev: -1, instance: -1, timer: -1, age: -1}
	if n := len(e.free); n > 0 {
		id := e.free[n-1]
		e.free = e.free[:n-1]
		e.pool[id] = blank
		return id
	}
	e.pool = append(e.pool, blank)
	return int32(len(e.pool) - 1)
}

// inbox holds what waits on one wire, in the order of waiting.
type inbox struct {
	source, wire, fn int32
	head, tail       int32
	n                int
	timer            int32 // timerFill
}

func (e *Engine) enqueue(id int32) {
	d := &e.pool[id]
	b := &e.boxes[d.box]
	d.state, d.since = waiting, e.now
	d.next, d.prev = -1, b.tail
	if b.tail >= 0 {
		e.pool[b.tail].next = id
	} else {
		b.head = id
	}
	b.tail = id
	b.n++
}

func (e *Engine) unlink(id int32) {
	d := &e.pool[id]
	b := &e.boxes[d.box]
	if d.prev >= 0 {
		e.pool[d.prev].next = d.next
	} else {
		b.head = d.next
	}
	if d.next >= 0 {
		e.pool[d.next].prev = d.prev
	} else {
		b.tail = d.prev
	}
	d.next, d.prev = -1, -1
	b.n--
}

// batchMax gives how many deliveries one invocation from the inbox carries.
func (e *Engine) batchMax(b *inbox) int {
	if src := &e.sources[b.source]; src.Kind == plan.Queue {
		if e.broken == batchTooLarge {
			return src.BatchMax + 1
		}
		return max(src.BatchMax, 1)
	}
	return 1
}

// boxUnits gives how many invocations wait in an inbox. A batch that is not
// full counts once its oldest message has waited long enough; until then a
// timer looks again.
func (e *Engine) boxUnits(id int32) int {
	b := &e.boxes[id]
	if b.n == 0 {
		return 0
	}
	most := e.batchMax(b)
	if b.n >= most {
		return b.n / most
	}
	due := e.pool[b.head].since.Add(e.sources[b.source].BatchWait)
	if due <= e.now {
		return 1
	}
	if b.timer < 0 {
		b.timer = e.timers.set(due, timerFill, id, 0)
	}
	return 0
}

// units gives how many invocations wait for a function.
func (e *Engine) units(f *function) int {
	n := 0
	for _, b := range f.boxes {
		n += e.boxUnits(b)
	}
	return n
}

// oldest gives the inbox whose head has waited longest among those that have
// an invocation to offer, or -1; the earlier wire on ties.
func (e *Engine) oldest(f *function) int32 {
	best, since := int32(-1), clock.Never
	for _, id := range f.boxes {
		if e.boxUnits(id) == 0 {
			continue
		}
		if at := e.pool[e.boxes[id].head].since; at < since {
			best, since = id, at
		}
	}
	return best
}

// pull takes the next invocation's deliveries out of an inbox; they stay
// linked by next, from the one returned.
func (e *Engine) pull(box int32) (head int32, n int) {
	b := &e.boxes[box]
	most := e.batchMax(b)
	head = b.head
	tail := int32(-1)
	for n < most && b.head >= 0 {
		id := b.head
		e.unlink(id)
		d := &e.pool[id]
		e.timers.cancel(&d.timer)
		d.state = working
		d.attempts++
		if tail >= 0 {
			e.pool[tail].next = id
		}
		tail = id
		n++
	}
	return head, n
}

// grant gives starting slots to those HTTP deliveries that have waited
// longest: whoever has one is no longer bound by the source's wait.
func (e *Engine) grant(f *function) {
	room := f.claimed * f.limits.PerInstance
	cursor := e.cursor[:len(f.boxes)]
	for i, b := range f.boxes {
		cursor[i] = e.boxes[b].head
	}
	for ; room > 0; room-- {
		best, since := -1, clock.Never
		for i := range f.boxes {
			if cursor[i] >= 0 && e.pool[cursor[i]].since < since {
				best, since = i, e.pool[cursor[i]].since
			}
		}
		if best < 0 {
			return
		}
		b := &e.boxes[f.boxes[best]]
		for range e.batchMax(b) {
			if cursor[best] < 0 {
				break
			}
			d := &e.pool[cursor[best]]
			if e.sources[b.source].Kind == plan.HTTP && !d.granted {
				d.granted = true
				e.timers.cancel(&d.timer)
			}
			cursor[best] = d.next
		}
	}
}
