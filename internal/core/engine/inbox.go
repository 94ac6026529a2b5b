package engine

import (
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

type deliveryState uint8

const (
	unused  deliveryState = iota
	waiting               // in its inbox
	working               // with an instance
	pausing               // not to be seen yet: between two attempts, delayed, or not yet found
)

// delivery is one event on its way along one wire.
type delivery struct {
	event          int64
	invocation     uint64 // of the current attempt
	last           uint64 // of the last attempt that had one
	arrived        clock.Time
	since          clock.Time // when it began to wait
	box            int32
	lane           int32 // of its inbox, from 1; 0 where order is nothing
	next, prev     int32 // in its inbox, or next in its batch
	elder, younger int32 // in its inbox, by arrival
	instance       int32 // of the current attempt, or -1
	timer          int32
	age            int32 // timer of max_age
	attempts       int32
	state          deliveryState
	// HTTP: a starting slot was there for it, or no one waits for the answer: it waits without bound
	granted bool
	async   bool // HTTP: no one waits for the answer
}

func (e *Engine) newDelivery(box, lane int32) int32 {
	b := &e.inboxes[box]
	blank := delivery{box: box, lane: lane, next: -1, prev: -1, elder: b.youngest, younger: -1, instance: -1, timer: -1,
		age: -1, arrived: e.now}
	id := int32(len(e.pool))
	if n := len(e.free); n > 0 {
		id, e.free = e.free[n-1], e.free[:n-1]
		e.pool[id] = blank
	} else {
		e.pool = append(e.pool, blank)
	}
	if b.youngest >= 0 {
		e.pool[b.youngest].younger = id
	} else {
		b.eldest = id
	}
	b.youngest = id
	b.all++
	for int(lane) > len(b.lanes) {
		b.lanes = append(b.lanes, newLane())
	}
	return id
}

// forgetDelivery frees a delivery that has its outcome.
func (e *Engine) forgetDelivery(id int32) {
	d := &e.pool[id]
	b := &e.inboxes[d.box]
	if d.elder >= 0 {
		e.pool[d.elder].younger = d.younger
	} else {
		b.eldest = d.younger
	}
	if d.younger >= 0 {
		e.pool[d.younger].elder = d.elder
	} else {
		b.youngest = d.elder
	}
	b.all--
	e.become(d, unused)
	e.free = append(e.free, id)
}

// become changes the state of a delivery.
func (e *Engine) become(d *delivery, s deliveryState) {
	b := &e.inboxes[d.box]
	if d.state == working {
		b.working--
	}
	if s == working {
		b.working++
	}
	d.state = s
}

// chain is a list of deliveries.
type chain struct {
	head, tail int32
	n          int
}

var noChain = chain{-1, -1, 0}

func (e *Engine) push(c *chain, id int32) {
	d := &e.pool[id]
	d.next, d.prev = -1, c.tail
	if c.tail >= 0 {
		e.pool[c.tail].next = id
	} else {
		c.head = id
	}
	c.tail = id
	c.n++
}

func (e *Engine) cut(c *chain, id int32) {
	d := &e.pool[id]
	if d.prev >= 0 {
		e.pool[d.prev].next = d.next
	} else {
		c.head = d.next
	}
	if d.next >= 0 {
		e.pool[d.next].prev = d.prev
	} else {
		c.tail = d.prev
	}
	d.next, d.prev = -1, -1
	c.n--
}

// inbox holds what waits on one wire: a list in the order of waiting, and lanes
// in which order is kept, the partitions of a stream or the groups of a queue.
type inbox struct {
	source, wire, fn int32
	stream           bool
	most             int // deliveries of one invocation
	loose            chain
	lanes            []lane   // by number, from 1
	open             laneList // that can be pulled from, in the order in which they became so
	inLanes          int      // deliveries that wait in lanes
	filling          laneList // stream: partitions whose batch may still grow
	free             int      // deliveries that can be pulled; of a stream not counted
	timer            int32    // timerFill
	eldest, youngest int32
	all, working     int // deliveries without an outcome, and those with an instance
}

type laneState uint8

const (
	empty   laneState = iota
	filling           // its batch may still grow
	open              // it can be pulled from
	blocked           // its batch is with an instance, or pauses
)

// lane is a partition or a group: its deliveries are dispatched in order, and
// one batch at a time.
type lane struct {
	chain
	since      clock.Time // when it became what it is
	state      laneState
	next, prev int32 // in the inbox's list, numbers of lanes; 0 for none
	timer      int32
	work       int        // deliveries with an instance
	workSince  clock.Time // arrival of the first of those
	// stream
	tries int32   // attempts in a row of the batch at the head
	sizes []int32 // of the batches into which what failed is to be cut, the last first; empty for no bound but the most
	split bool
}

func newLane() lane { return lane{chain: noChain, timer: -1} }

type laneList struct {
	first, last int32 // numbers, 0 for none
	n           int
}

func (b *inbox) append(l *laneList, n int32) {
	x := &b.lanes[n-1]
	x.next, x.prev = 0, l.last
	if l.last > 0 {
		b.lanes[l.last-1].next = n
	} else {
		l.first = n
	}
	l.last = n
	l.n++
}

func (b *inbox) remove(l *laneList, n int32) {
	x := &b.lanes[n-1]
	if x.prev > 0 {
		b.lanes[x.prev-1].next = x.next
	} else {
		l.first = x.next
	}
	if x.next > 0 {
		b.lanes[x.next-1].prev = x.prev
	} else {
		l.last = x.prev
	}
	l.n--
}

func newInbox(s, w int, src *plan.Source) inbox {
	b := inbox{source: int32(s), wire: int32(w), fn: int32(src.Wires[w].To), stream: src.Kind == plan.Stream, most: 1,
		loose: noChain, timer: -1, eldest: -1, youngest: -1}
	if src.Kind == plan.Queue || src.Kind == plan.Stream {
		b.most = max(src.BatchMax, 1)
	}
	if src.Kind == plan.Stream {
		for range src.Partitions {
			b.lanes = append(b.lanes, newLane())
		}
	}
	return b
}

// enqueue makes a delivery wait in its inbox.
func (e *Engine) enqueue(id int32) {
	d := &e.pool[id]
	b := &e.inboxes[d.box]
	e.become(d, waiting)
	d.since = e.now
	if d.lane == 0 {
		e.push(&b.loose, id)
		b.free++
		return
	}
	l := &b.lanes[d.lane-1]
	e.push(&l.chain, id)
	b.inLanes++
	switch l.state {
	case empty:
		e.openLane(b, d.lane)
	case open:
		if !b.stream {
			b.free++
		}
	case filling:
		if l.n >= b.most {
			b.remove(&b.filling, d.lane)
			e.offer(b, d.lane)
		}
	}
}

// openLane makes a lane available that was empty or blocked.
func (e *Engine) openLane(b *inbox, n int32) {
	l := &b.lanes[n-1]
	e.timers.cancel(&l.timer)
	l.since = e.now
	switch wait := e.sources[b.source].BatchWait; {
	case l.n == 0:
		l.state = empty
	case b.stream && len(l.sizes) == 0 && l.n < b.most && wait > 0:
		l.state = filling
		b.append(&b.filling, n)
	default:
		e.offer(b, n)
	}
}

func (e *Engine) offer(b *inbox, n int32) {
	l := &b.lanes[n-1]
	l.state = open
	b.append(&b.open, n)
	if !b.stream {
		b.free += l.n
	}
}

// unlink takes a delivery that waits out of its inbox.
func (e *Engine) unlink(id int32) {
	d := &e.pool[id]
	b := &e.inboxes[d.box]
	if d.lane == 0 {
		e.cut(&b.loose, id)
		b.free--
		return
	}
	l := &b.lanes[d.lane-1]
	e.cut(&l.chain, id)
	b.inLanes--
	if l.state == open && !b.stream {
		b.free--
	}
	if l.n == 0 {
		e.close(b, d.lane, empty)
	}
}

// close takes a lane out of the lists of those that can be pulled from.
func (e *Engine) close(b *inbox, n int32, to laneState) {
	l := &b.lanes[n-1]
	switch l.state {
	case open:
		b.remove(&b.open, n)
		if !b.stream {
			b.free -= l.n
		}
	case filling:
		b.remove(&b.filling, n)
	case blocked:
		return // it opens by itself, and finds out then
	}
	l.state = to
}

// boxUnits returns how many invocations wait in an inbox. A batch that is not
// full counts once its oldest message has waited long enough; until then a
// timer looks again.
func (e *Engine) boxUnits(id int32) int {
	b := &e.inboxes[id]
	wait := e.sources[b.source].BatchWait
	due, n := clock.Never, 0
	switch {
	case b.stream:
		for b.filling.first > 0 {
			lane := b.filling.first
			if due = b.lanes[lane-1].since.Add(wait); due > e.now {
				break
			}
			b.remove(&b.filling, lane)
			e.offer(b, lane)
		}
		if n = b.open.n; b.filling.first == 0 {
			return n
		}
	case b.free == 0:
		return 0
	case b.free >= b.most:
		return b.free / b.most
	default:
		if due = e.boxSince(b).Add(wait); due <= e.now {
			return 1
		}
	}
	if b.timer < 0 {
		b.timer = e.timers.set(due, timerFill, id, 0)
	}
	return n
}

// boxSince returns the time from which on something waits in an inbox.
func (e *Engine) boxSince(b *inbox) clock.Time {
	since := clock.Never
	if b.loose.head >= 0 {
		since = e.pool[b.loose.head].since
	}
	if b.open.first > 0 {
		since = min(since, b.lanes[b.open.first-1].since)
	}
	return since
}

// units returns how many invocations wait for a function.
func (e *Engine) units(f *function) int {
	n := 0
	for _, b := range f.boxes {
		n += e.boxUnits(b)
	}
	return n
}

// oldest returns the inbox that has waited longest among those that have an
// invocation to offer, or -1, and since when; the earlier wire on ties.
func (e *Engine) oldest(f *function) (box int32, since clock.Time) {
	box, since = -1, clock.Never
	for _, id := range f.boxes {
		if e.boxUnits(id) == 0 {
			continue
		}
		if at := e.boxSince(&e.inboxes[id]); at < since {
			box, since = id, at
		}
	}
	return box, since
}

// pull takes the next invocation's deliveries out of an inbox; they stay
// linked by next, from the one returned. What is pulled out of one lane stands
// together, in its order.
func (e *Engine) pull(box int32) (head int32, n int) {
	b := &e.inboxes[box]
	most := b.most
	if e.breaks(batchTooLarge) && e.sources[b.source].Kind != plan.HTTP {
		most++
	}
	batch := noChain
	for batch.n < most {
		lane := b.open.first
		if lane > 0 && b.loose.head >= 0 && e.pool[b.loose.head].since < b.lanes[lane-1].since {
			lane = 0
		}
		if lane == 0 {
			if b.loose.head < 0 {
				break
			}
			e.hand(&batch, b.loose.head)
			continue
		}
		l := &b.lanes[lane-1]
		take := min(most-batch.n, l.n)
		if k := len(l.sizes); k > 0 {
			take = min(take, int(l.sizes[k-1]))
		}
		if !e.breaks(laneNotBlocked) {
			e.close(b, lane, blocked)
		}
		l.work, l.workSince = take, e.pool[l.head].arrived
		for range take {
			from := l.head
			if e.breaks(outOfOrder) {
				from = l.tail
			}
			e.hand(&batch, from)
		}
		if b.stream {
			break
		}
	}
	return batch.head, batch.n
}

// hand moves a delivery from where it waits to a batch.
func (e *Engine) hand(batch *chain, id int32) {
	e.unlink(id)
	d := &e.pool[id]
	e.timers.cancel(&d.timer)
	e.become(d, working)
	d.attempts++
	e.push(batch, id)
}

// giveBack puts deliveries of a lane, linked by next, back to its head. It can
// be pulled from again after a pause.
func (e *Engine) giveBack(box, lane int32, back chain, pause time.Duration) {
	b := &e.inboxes[box]
	l := &b.lanes[lane-1]
	l.work = 0
	for id := back.head; id >= 0; id = e.pool[id].next {
		e.become(&e.pool[id], waiting)
		e.pool[id].since = e.now
	}
	if back.n > 0 {
		if l.head >= 0 {
			e.pool[back.tail].next, e.pool[l.head].prev = l.head, back.tail
		} else {
			l.tail = back.tail
		}
		l.head = back.head
		l.n += back.n
		b.inLanes += back.n
	}
	if e.breaks(laneNotBlocked) && l.state != blocked {
		return
	}
	if pause <= 0 || back.n == 0 {
		e.openLane(b, lane)
		return
	}
	l.timer = e.timers.set(e.now.Add(pause), timerLane, box, lane)
}

// grant assigns starting slots to the HTTP deliveries that have waited longest: those that have one
// are no longer bound by the source's wait. Lanes count as one invocation each.
func (e *Engine) grant(f *function) {
	room := f.claimed * f.limits.PerInstance
	loose, lanes := e.cursor[:len(f.boxes)], e.laneCursor[:len(f.boxes)]
	for i, b := range f.boxes {
		loose[i], lanes[i] = e.inboxes[b].loose.head, e.inboxes[b].open.first
	}
	for ; room > 0; room-- {
		best, inLane, since := -1, false, clock.Never
		for i, id := range f.boxes {
			if loose[i] >= 0 && e.pool[loose[i]].since < since {
				best, inLane, since = i, false, e.pool[loose[i]].since
			}
			if n := lanes[i]; n > 0 && e.inboxes[id].lanes[n-1].since < since {
				best, inLane, since = i, true, e.inboxes[id].lanes[n-1].since
			}
		}
		if best < 0 {
			return
		}
		b := &e.inboxes[f.boxes[best]]
		if inLane {
			lanes[best] = b.lanes[lanes[best]-1].next
			continue
		}
		for range b.most {
			if loose[best] < 0 {
				break
			}
			d := &e.pool[loose[best]]
			if e.sources[b.source].Kind == plan.HTTP && !d.granted {
				d.granted = true
				e.timers.cancel(&d.timer)
			}
			loose[best] = d.next
		}
	}
}

// WireStats is what waits on one wire at a moment.
type WireStats struct {
	Open    int        // deliveries without an outcome
	Working int        // those with an instance
	Eldest  clock.Time // arrival of the oldest of them, or never
}

// WireStats returns what waits on a wire.
func (e *Engine) WireStats(source, wire int) WireStats {
	b := &e.inboxes[e.sources[source].firstBox+int32(wire)]
	w := WireStats{Open: b.all, Working: b.working, Eldest: clock.Never}
	if b.eldest >= 0 {
		w.Eldest = e.pool[b.eldest].arrived
	}
	return w
}

// LaneStats is the state of a partition or a group at a moment.
type LaneStats struct {
	Lag     int        // records that were not read to their end
	Eldest  clock.Time // arrival of the first of them, or never
	Tries   int        // attempts in a row of the batch at its head that failed
	Blocked bool       // its batch is with an instance, or pauses
	Alone   bool       // a batch that failed is being cut to find the bad record
}

// LaneStats appends the state of each partition of a stream's wire.
func (e *Engine) LaneStats(source, wire int, out []LaneStats) []LaneStats {
	b := &e.inboxes[e.sources[source].firstBox+int32(wire)]
	for i := range b.lanes {
		l := &b.lanes[i]
		x := LaneStats{Lag: l.n + l.work, Eldest: clock.Never, Tries: int(l.tries), Blocked: l.state == blocked,
			Alone: l.split}
		if l.head >= 0 {
			x.Eldest = e.pool[l.head].arrived
		}
		if l.work > 0 {
			x.Eldest = l.workSince
		}
		out = append(out, x)
	}
	return out
}
