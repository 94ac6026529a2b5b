package engine

import (
	"slices"
	"time"

	"nightdrill.dev/internal/core/plan"
)

// verdict is how an invocation ended.
type verdict struct {
	good       bool
	why        Result // where it is not
	status     int32
	retry      []int32 // positions in the batch that are to come again, although the rest is good
	retryAfter time.Duration
	pause      time.Duration // at least, before another attempt
}

// settleBatch ends the attempt of each delivery of a batch as the verdict says.
func (e *Engine) settleBatch(head int32, v *verdict) {
	if head < 0 {
		return
	}
	box := e.pool[head].box
	if e.inboxes[box].stream {
		e.settleRecords(head, v)
		return
	}
	back, pause := noChain, time.Duration(0) // of the present lane
	for d, i := head, int32(0); d >= 0; i++ {
		next, lane := e.pool[d].next, e.pool[d].lane
		e.pool[d].next, e.pool[d].prev = -1, -1
		switch {
		case v.good && !slices.Contains(v.retry, i):
			e.attemptEnded(d, OK, v)
			e.finish(d, Done)
		default:
			why := v.why
			if v.good {
				why = Retried
			}
			again, wait := e.failed(d, why, v)
			switch {
			case !again:
			case lane == 0:
				e.later(d, wait)
			default:
				e.push(&back, d)
				pause = max(pause, wait)
			}
		}
		if lane > 0 && (next < 0 || e.pool[next].lane != lane) {
			e.giveBack(box, lane, back, pause)
			back, pause = noChain, 0
		}
		d = next
	}
}

// settleRecords ends the attempt of a batch of a stream's partition. Records are
// read up to the first that is to come again; from there on all come again, in
// their order. A batch whose attempts are used up is cut in half, or given up.
func (e *Engine) settleRecords(head int32, v *verdict) {
	box, lane := e.pool[head].box, e.pool[head].lane
	n := 0
	for d := head; d >= 0; d = e.pool[d].next {
		n++
	}
	read := 0
	if v.good {
		read = n
		for _, r := range v.retry {
			read = min(read, int(r))
		}
	}
	left := noChain
	for d, i := head, 0; d >= 0; i++ {
		next := e.pool[d].next
		e.pool[d].next, e.pool[d].prev = -1, -1
		switch {
		case i < read:
			e.attemptEnded(d, OK, v)
			e.finish(d, Done)
		default:
			why := v.why
			if v.good {
				if why = Behind; slices.Contains(v.retry, int32(i)) {
					why = Retried
				}
			}
			e.attemptEnded(d, why, v)
			e.push(&left, d)
		}
		d = next
	}
	src := &e.sources[e.inboxes[box].source]
	l := &e.inboxes[box].lanes[lane-1]
	k := len(l.sizes)
	if left.n == 0 {
		if k > 0 {
			l.sizes = l.sizes[:k-1]
		}
		l.tries, l.split = 0, l.split && k > 1
		e.giveBack(box, lane, left, 0)
		return
	}
	if l.tries++; read > 0 {
		l.tries = 1
	}
	if k == 0 {
		l.sizes = append(l.sizes, 0)
		k = 1
	}
	l.sizes[k-1] = int32(left.n)
	pause := e.pauseAfter(src, l.tries, v)
	if int(l.tries) >= src.Attempts || l.split && left.n > 1 {
		if l.tries = 0; src.OnFailure != plan.Split || left.n == 1 || e.breaks(splitIgnored) {
			l.sizes = l.sizes[:k-1]
			l.split = l.split && k > 1
			for d := left.head; d >= 0; {
				next := e.pool[d].next
				e.giveUp(d)
				d = next
			}
			e.giveBack(box, lane, noChain, 0)
			return
		}
		second := left.n / 2
		l.sizes[k-1] = int32(second)
		l.sizes = append(l.sizes, int32(left.n-second))
		l.split = true
	}
	e.giveBack(box, lane, left, pause)
}

// failBatch ends the attempt of each delivery of a batch badly.
func (e *Engine) failBatch(head int32, why Result) {
	e.settleBatch(head, &verdict{why: why})
}

func (e *Engine) attemptEnded(id int32, why Result, v *verdict) {
	d := &e.pool[id]
	box := &e.inboxes[d.box]
	e.say(Effect{Kind: AttemptEnded, Function: box.fn, Source: box.source, Wire: box.wire, Event: d.event,
		Instance: d.instance, Invocation: d.invocation, Attempt: d.attempts, Result: why, Status: v.status})
	d.instance, d.invocation = -1, 0
}

// failed ends an attempt of a delivery that did not succeed: another is to follow
// after a pause, or the delivery ends.
func (e *Engine) failed(id int32, why Result, v *verdict) (again bool, pause time.Duration) {
	e.attemptEnded(id, why, v)
	d := &e.pool[id]
	src := &e.sources[e.inboxes[d.box].source]
	switch {
	case src.Kind == plan.HTTP:
		e.finish(id, Failed)
	case int(d.attempts) >= src.Attempts && (!e.breaks(oneAttemptMore) || int(d.attempts) > src.Attempts):
		e.giveUp(id)
	case src.MaxAge > 0 && e.now >= d.arrived.Add(src.MaxAge):
		e.finish(id, Expired)
	default:
		return true, e.pauseAfter(src, d.attempts, v)
	}
	return false, 0
}

// pauseAfter returns the pause after an attempt that failed.
func (e *Engine) pauseAfter(src *source, attempts int32, v *verdict) time.Duration {
	pause := max(min(src.Backoff<<min(max(attempts, 1)-1, 20), mostBackoff), v.pause)
	if v.retryAfter > pause { // the function's own word, within bounds
		most := mostRetryAfter
		if src.MaxAge > 0 {
			most = src.MaxAge
		}
		pause = max(pause, min(v.retryAfter, most))
	}
	return pause
}

// later makes a delivery visible after a pause.
func (e *Engine) later(id int32, pause time.Duration) {
	if pause <= 0 {
		e.enqueue(id)
		return
	}
	d := &e.pool[id]
	e.become(d, pausing)
	d.timer = e.timers.set(e.now.Add(pause), timerVisible, id, 0)
}

// giveUp ends a delivery whose attempts are used up: as a dead letter, where its
// source has a queue for those.
func (e *Engine) giveUp(id int32) {
	d := &e.pool[id]
	src := &e.sources[e.inboxes[d.box].source]
	if src.DeadLetter < 0 {
		e.finish(id, Failed)
		return
	}
	from := d.event
	e.finish(id, DeadLettered)
	if wires := len(e.sources[src.DeadLetter].Wires); wires > 0 {
		// a dead letter is a new event of its queue only where someone reads it
		e.arrive(arrival{source: int32(src.DeadLetter), takes: 1<<wires - 1, from: from, origin: FromDeadLetter})
	}
}
