package engine

import "nightdrill.dev/internal/core/clock"

type timerKind uint8

const (
	timerTimeout timerKind = iota // of an invocation: instance, slot
	timerLease                    // of an invocation: instance, slot
	timerStart                    // start_timeout: instance
	timerSpawn                    // a planned start: instance
	timerIdle                     // an idle stop: instance
	timerWait                     // an HTTP delivery's wait for capacity
	timerVisible                  // a queue delivery's pause between attempts
	timerAge                      // a queue delivery's max_age
	timerFill                     // a batch that waits to be filled: inbox
	timerLane                     // a lane's pause: inbox, lane
	timerSettle
	timerPace // an instance may be added again: function
)

type timer struct {
	at    clock.Time
	order uint64 // of setting, for equal times
	id    int32  // place in the index
	a, b  int32
	kind  timerKind
}

// timers is a heap with four children a node, and an index for cancelling.
type timers struct {
	heap  []timer
	place []int32 // of a timer's id in the heap
	spare []int32
	order uint64
}

func (t *timers) next() clock.Time {
	if len(t.heap) == 0 {
		return clock.Never
	}
	return t.heap[0].at
}

// set adds a timer and returns the handle for cancel.
func (t *timers) set(at clock.Time, kind timerKind, a, b int32) int32 {
	var id int32
	if n := len(t.spare); n > 0 {
		id, t.spare = t.spare[n-1], t.spare[:n-1]
	} else {
		id = int32(len(t.place))
		t.place = append(t.place, 0)
	}
	t.order++
	t.heap = append(t.heap, timer{at, t.order, id, a, b, kind})
	t.up(len(t.heap) - 1)
	return id
}

// cancel removes the timer of a handle and sets the handle to -1. A handle of
// -1 is none.
func (t *timers) cancel(handle *int32) {
	if *handle >= 0 {
		t.remove(int(t.place[*handle]))
		*handle = -1
	}
}

// pop takes the first timer that is due before a time. Its handle is void.
func (t *timers) pop(before clock.Time) (timer, bool) {
	if len(t.heap) == 0 || t.heap[0].at >= before {
		return timer{}, false
	}
	first := t.heap[0]
	t.remove(0)
	return first, true
}

func (t *timers) remove(i int) {
	t.spare = append(t.spare, t.heap[i].id)
	last := len(t.heap) - 1
	t.heap[i] = t.heap[last]
	t.heap = t.heap[:last]
	if i < last {
		t.place[t.heap[i].id] = int32(i)
		t.down(i)
		t.up(i)
	}
}

func (t *timers) less(a, b *timer) bool { return a.at < b.at || a.at == b.at && a.order < b.order }

func (t *timers) up(i int) {
	moving := t.heap[i]
	for i > 0 {
		parent := (i - 1) / 4
		if !t.less(&moving, &t.heap[parent]) {
			break
		}
		t.heap[i] = t.heap[parent]
		t.place[t.heap[i].id] = int32(i)
		i = parent
	}
	t.heap[i] = moving
	t.place[moving.id] = int32(i)
}

func (t *timers) down(i int) {
	moving := t.heap[i]
	for {
		least := i*4 + 1
		if least >= len(t.heap) {
			break
		}
		for c := least + 1; c < min(i*4+5, len(t.heap)); c++ {
			if t.less(&t.heap[c], &t.heap[least]) {
				least = c
			}
		}
		if !t.less(&t.heap[least], &moving) {
			break
		}
		t.heap[i] = t.heap[least]
		t.place[t.heap[i].id] = int32(i)
		i = least
	}
	t.heap[i] = moving
	t.place[moving.id] = int32(i)
}
