package sim

import (
	"math"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
)

// Machine is the processors that the work of all instances shares: each piece of work that is at it gets as much of a
// processor as every other, at most one, and at most what its function may use. So do the tasks of others.
type Machine struct {
	Cores float64
	// Others returns how many other tasks want a processor at a moment; nil for none.
	Others func(at clock.Time) float64
	// Caps are the processors that an instance of each function may use; 0 for no bound.
	Caps []float64

	classes []class // of work with the same cap
	last    clock.Time
	order   uint64
}

// class is the work whose functions may use the same.
type class struct {
	cap  float64 // +Inf for none
	done float64 // processor time in nanoseconds that each piece of work that is always there would have got by now
	rate float64 // and gets in a nanosecond
	jobs queue[end, piece]
}

// piece is a piece of work.
type piece struct {
	rest  time.Duration
	input engine.Input
}

// end is when a piece of work is done.
type end struct {
	until float64 // of the class's done
	order uint64
}

// Before reports whether a piece is done before another one of its class.
func (p end) Before(q end) bool {
	return p.until < q.until || p.until == q.until && p.order < q.order
}

// advance brings the machine up to a moment.
func (m *Machine) advance(now clock.Time) {
	if d := float64(now - m.last); d > 0 {
		for i := range m.classes {
			m.classes[i].done += d * m.classes[i].rate
		}
	}
	m.last = now
}

// share works out how much each piece of work gets: the processors are divided alike, and what some may not use is left
// to the others.
func (m *Machine) share() {
	others := 0.0
	if m.Others != nil {
		others = m.Others(m.last)
	}
	left, n := m.Cores, others
	for i := range m.classes {
		n += float64(m.classes[i].jobs.len())
	}
	// caps from the smallest on; others are never more than one each
	settled := make([]bool, 8)
	if len(m.classes) > len(settled) {
		settled = make([]bool, len(m.classes))
	}
	for range m.classes {
		if n <= 0 {
			break
		}
		fair, least := min(left/n, 1), -1
		for i := range m.classes {
			if c := &m.classes[i]; !settled[i] && c.cap < fair && (least < 0 || c.cap < m.classes[least].cap) {
				least = i
			}
		}
		if least < 0 {
			break
		}
		c := &m.classes[least]
		settled[least], c.rate = true, c.cap
		left, n = left-c.cap*float64(c.jobs.len()), n-float64(c.jobs.len())
	}
	fair := 1.0
	if n > 0 {
		fair = max(min(left/n, 1), 1e-9)
	}
	for i := range m.classes {
		if !settled[i] {
			m.classes[i].rate = fair
		}
	}
}

// add begins a piece of work.
func (m *Machine) add(now clock.Time, function int32, cpu, rest time.Duration, in engine.Input) {
	limit := math.Inf(1)
	if int(function) < len(m.Caps) && m.Caps[function] > 0 {
		limit = m.Caps[function]
	}
	at := -1
	for i := range m.classes {
		if m.classes[i].cap == limit {
			at = i
		}
	}
	m.advance(now)
	if at < 0 {
		at = len(m.classes)
		m.classes = append(m.classes, class{cap: limit, rate: 1})
	}
	m.order++
	c := &m.classes[at]
	c.jobs.push(end{c.done + float64(cpu), m.order}, piece{rest, in})
	m.share()
}

// othersEvery is how often the work of others is looked at while there is any of ours.
const othersEvery = clock.Time(50 * time.Millisecond)

// next returns when the machine is to be asked again: the next piece of work is done, or others may want another part
// of the processors; clock.Never while there is no work of ours.
func (m *Machine) next() clock.Time {
	at := clock.Never
	for i := range m.classes {
		c := &m.classes[i]
		if c.jobs.len() == 0 {
			continue
		}
		if wait := (c.jobs.first().until - c.done) / c.rate; wait < float64(clock.Never/2) {
			at = min(at, m.last+clock.Time(math.Ceil(max(wait, 0))))
		}
	}
	if m.Others != nil && at != clock.Never {
		at = min(at, m.last+othersEvery)
	}
	return at
}

// nearly is how much of a nanosecond's work may be left of what is done.
const nearly = 1e-3

// finish takes the piece of work that is done at a moment; ok is false where none is yet.
func (m *Machine) finish(at clock.Time) (j piece, ok bool) {
	m.advance(at)
	for i := range m.classes {
		if c := &m.classes[i]; c.jobs.len() > 0 && c.jobs.first().until <= c.done+nearly {
			j, ok = c.jobs.pop(), true
			break
		}
	}
	m.share()
	return j, ok
}
