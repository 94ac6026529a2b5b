// Package arrival computes when the events of a drill fall due.
//
// A feed is a sequence of phases, each with a pattern. New returns a feed's schedule; Peek and Take
// return its arrivals one after the other, without holding more than one in memory. Callers are the
// exception: each waits for its reply, so their next arrival is known only after Answered.
//
// The same phases, recording and seed produce the same arrivals on every machine.
package arrival

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/rng"
)

// Pattern is the shape of a phase's arrivals.
type Pattern uint8

const (
	Recorded Pattern = iota // at the recording's own times
	Once                    // the whole set, at once
	Steady                  // at equal distances
	Poisson                 // independent of each other, at a mean rate
	Ramp                    // from one rate to another, linearly
	Burst                   // several at once, every so often
	Callers                 // each caller waits for its reply before it sends its next request
)

func (p Pattern) String() string {
	return [...]string{"recorded", "once", "steady", "poisson", "ramp", "burst", "callers"}[p]
}

// Rate is a number of events in a time, kept exact: 40/s is Events 40 in Per 1s.
type Rate struct {
	Events int
	Per    time.Duration
}

// PerSecond returns the rate as events a second.
func (r Rate) PerSecond() float64 {
	if r.Per == 0 {
		return 0
	}
	return float64(r.Events) / r.Per.Seconds()
}

// after returns the time of k events at the rate, rounded down: k·Per/Events.
func (r Rate) after(k int) time.Duration {
	hi, lo := bits.Mul64(uint64(k), uint64(r.Per))
	if hi >= uint64(r.Events) {
		return math.MaxInt64
	}
	q, _ := bits.Div64(hi, lo, uint64(r.Events))
	return time.Duration(min(q, math.MaxInt64))
}

// Phase is one pattern for a duration. A phase includes its start and excludes its end.
type Phase struct {
	Pattern Pattern
	For     time.Duration // not used by Recorded and Once
	Rate    Rate          // Steady, Poisson, the start of Ramp, the common bound of Callers (0 for none)
	To      Rate          // the end of Ramp
	Speed   float64       // Recorded: 2 is twice as fast
	Size    int           // Burst: events of one burst; Callers: how many there are
	Every   time.Duration // Burst
}

// Arrival is one event of a feed falling due.
type Arrival struct {
	Due     clock.Time
	Payload int // index within the set
	Round   int // how many times the set had been used up before
	Caller  int // the caller, to be passed back to Answered; -1 for none
}

// Schedule produces the arrivals of one feed in the order of their due times.
type Schedule struct {
	phases []Phase
	times  []time.Duration // the set's own times, from its first, in the set's order
	order  []int           // the set's payloads in the order of their times
	size   int             // payloads in the set
	rand   *rng.Source

	phase  int
	start  clock.Time    // of the current phase
	k      int           // arrivals of the current phase so far
	at     time.Duration // Poisson: offset of the next
	cursor int           // payloads handed out by patterns that share the cursor
	next   Arrival       // what Peek found, while held
	held   bool

	// callers of the current phase
	free []clock.Time // when each may send again; Never while it waits for its reply
	gate clock.Time   // the common rate allows the next from here on
	from clock.Time   // since when they have come at the full rate without a pause,
	many int          // and how many of them
}

// New returns the schedule of a feed that begins at `start`. times holds the
// original time of each payload, relative to the first; it may be nil when no
// phase is Recorded. size is the number of payloads and must be positive.
func New(phases []Phase, times []time.Duration, size int, start clock.Time, seed, stream uint64) *Schedule {
	s := &Schedule{phases: phases, times: times, size: size, rand: rng.New(seed, stream), start: start}
	s.order = byTime(times)
	s.enter()
	return s
}

func byTime(times []time.Duration) []int {
	order := make([]int, len(times))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(times[a], times[b]) })
	return order
}

// enter prepares the current phase.
func (s *Schedule) enter() {
	s.k, s.at, s.gate, s.from, s.many = 0, 0, s.start, s.start, 0
	s.free = s.free[:0]
	if s.phase >= len(s.phases) {
		return
	}
	switch p := &s.phases[s.phase]; p.Pattern {
	case Poisson:
		s.at = s.rand.Exp(p.Rate.mean())
	case Callers:
		for range p.Size {
			s.free = append(s.free, s.start)
		}
	}
}

func (r Rate) mean() time.Duration { return r.Per / time.Duration(r.Events) }

// State classifies what Peek found.
type State uint8

const (
	Due     State = iota // the arrival is known
	Waiting              // callers wait for their replies; look again after Answered, or at the arrival's Due
	Over                 // no more arrivals
)

// Peek returns the next arrival without taking it. now matters to callers alone: those that have no
// reply when their phase ends send nothing more.
func (s *Schedule) Peek(now clock.Time) (Arrival, State) {
	if s.held {
		return s.next, Due
	}
	for s.phase < len(s.phases) {
		p := &s.phases[s.phase]
		if p.Pattern == Callers {
			if a, state := s.peekCaller(p, now); state != Over {
				return a, state
			}
		} else if off, payload, ok := s.offset(p); ok {
			s.next = Arrival{Due: s.start.Add(off), Payload: payload, Caller: -1}
			if payload < 0 {
				s.next.Payload, s.next.Round = s.cursor%s.size, s.cursor/s.size
				s.cursor++
			}
			s.k++
			s.held = true
			return s.next, Due
		}
		s.start = s.start.Add(s.length(p))
		s.phase++
		s.enter()
	}
	return Arrival{}, Over
}

// Take consumes the arrival that Peek reported as Due.
func (s *Schedule) Take() {
	if s.held {
		s.held = false
		return
	}
	p := &s.phases[s.phase]
	best, due := s.nextFree()
	s.free[best] = clock.Never
	s.k++
	s.cursor++
	if p.Rate.Events == 0 {
		s.gate = max(s.gate, due)
		return
	}
	// the next is one event's distance away at the rate, whenever this one came; of several without
	// a pause it is computed from the first, so that rounding does not accumulate
	if due > s.gate {
		s.from, s.many = due, 0
	}
	s.many++
	s.gate = s.from.Add(p.Rate.after(s.many))
}

// Expected returns how many events a phase produces on average; for callers, as many as their rate
// allows, or 0 where they have no rate.
func (p *Phase) Expected() float64 {
	switch p.Pattern {
	case Ramp:
		return (p.Rate.PerSecond() + p.To.PerSecond()) / 2 * p.For.Seconds()
	case Burst:
		return float64(p.Size) * math.Ceil(float64(p.For)/float64(max(p.Every, 1)))
	case Steady, Poisson, Callers:
		return p.Rate.PerSecond() * p.For.Seconds()
	}
	return 0
}

// offset returns the time of the phase's next arrival from the phase's start,
// and its payload, or -1 for the next of the set.
func (s *Schedule) offset(p *Phase) (off time.Duration, payload int, ok bool) {
	payload = -1
	switch p.Pattern {
	case Recorded:
		if s.k >= len(s.order) {
			return 0, 0, false
		}
		payload = s.order[s.k]
		return s.scaled(p, payload), payload, true
	case Once:
		return 0, s.k, s.k < s.size
	case Steady:
		off = p.Rate.after(s.k)
	case Poisson:
		off = s.at
		s.at += s.rand.Exp(p.Rate.mean())
	case Ramp:
		off = p.rampAt(s.k)
	case Burst:
		off = time.Duration(s.k/p.Size) * p.Every
	}
	return off, payload, off < p.For
}

func (s *Schedule) scaled(p *Phase, payload int) time.Duration {
	first := s.times[s.order[0]]
	return time.Duration(float64(s.times[payload]-first) / p.Speed)
}

// length returns how long a phase lasts; a recorded one lasts until its last event.
func (s *Schedule) length(p *Phase) time.Duration {
	switch p.Pattern {
	case Once:
		return 0
	case Recorded:
		if len(s.order) == 0 {
			return 0
		}
		return s.scaled(p, s.order[len(s.order)-1])
	}
	return p.For
}

// rampAt returns the offset at which the k-th event of a ramp falls due: where
// the integral of the rate, r·t + a·t²/2, reaches k. The form 2k/(r+√(r²+2ak))
// loses no digits when a is small. The conversions keep a compiler from fusing
// operations, so that all processors round alike.
func (p *Phase) rampAt(k int) time.Duration {
	if k == 0 {
		return 0
	}
	r, to := p.Rate.PerSecond(), p.To.PerSecond()
	a := (to - r) / p.For.Seconds()
	root := float64(r*r) + float64(2*a*float64(k))
	if root < 0 {
		return p.For // a falling ramp never reaches k
	}
	t := float64(2*float64(k)) / (r + math.Sqrt(root))
	if t >= p.For.Seconds() {
		return p.For
	}
	return time.Duration(t * 1e9)
}

// peekCaller finds the caller who may send next.
func (s *Schedule) peekCaller(p *Phase, now clock.Time) (Arrival, State) {
	end := s.start.Add(p.For)
	if best, due := s.nextFree(); best >= 0 && due < end {
		return Arrival{Due: due, Payload: s.cursor % s.size, Round: s.cursor / s.size, Caller: s.phase<<16 | best}, Due
	}
	if s.gate < end && now < end && slices.Contains(s.free, clock.Never) {
		return Arrival{Due: end}, Waiting
	}
	return Arrival{}, Over
}

// nextFree returns the caller who is free first, and when the common rate lets it send; -1 when all
// wait for their replies.
func (s *Schedule) nextFree() (caller int, due clock.Time) {
	caller = -1
	for i, at := range s.free {
		if at != clock.Never && (caller < 0 || at < s.free[caller]) {
			caller = i
		}
	}
	if caller < 0 {
		return -1, clock.Never
	}
	return caller, max(s.free[caller], s.gate)
}

// Answered notes that a caller has its reply, or was rejected and may send again, at
// the given time. Callers of an earlier phase send nothing more.
func (s *Schedule) Answered(caller int, at clock.Time) {
	if caller < 0 || caller>>16 != s.phase || s.phase >= len(s.phases) {
		return
	}
	if i := caller & (1<<16 - 1); i < len(s.free) {
		s.free[i] = at
	}
}

// Span returns the time from the start of a feed to the end of its last phase, as far as the plan
// determines it.
func Span(phases []Phase, times []time.Duration) time.Duration {
	s := Schedule{phases: phases, times: times, order: byTime(times)}
	var sum time.Duration
	for i := range phases {
		sum += s.length(&phases[i])
	}
	return sum
}
