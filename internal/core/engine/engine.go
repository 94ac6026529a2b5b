// Package engine is the state machine that decides everything: which instance
// takes which event, when to start one, when to reject, retry, dead-letter and
// stop. It has no I/O, no goroutines, no clock and no randomness.
//
// New makes an engine for a project under given limits. Handle feeds it one
// input with the time at which it was taken and appends to an Effects what the
// caller now owes; it returns when it wants to be called again. The live
// driver carries effects out on real processes; a simulator feeds sampled
// times. The same inputs give the same effects, byte for byte.
package engine

import (
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// Bounds of the pause after failed starts.
const (
	firstBackoff = 100 * time.Millisecond
	mostBackoff  = 5 * time.Second
	// mostRetryAfter bounds a function's Retry-After where there is no max_age.
	mostRetryAfter = time.Minute
)

// Engine is the state of one run. It is not safe for use by several goroutines.
type Engine struct {
	now    clock.Time
	timers timers
	out    *Effects

	limit      int // the project's concurrency
	used       int // in flight and starting for a waiting one, all functions
	reserved   int // the same, but at least what is guaranteed for each
	functions  []function
	sources    []source
	inboxes    []inbox // one for each wire, in the order of sources
	instances  []instance
	pool       []delivery
	free       []int32 // unused entries of pool
	cursor     []int32 // working memory of grant
	laneCursor []int32

	events  int64  // taken so far
	handed  uint64 // invocations so far
	open    int    // deliveries without an outcome
	justNow int32  // the instance that this step made ready, or -1
	blocked int    // functions that wait for the project's limit
	noMore  bool   // the last arrival has come
	ended   bool
	over    bool // Over was said
	hook
	settle   time.Duration
	deadline clock.Time // of settling
}

type function struct {
	limits       plan.Limits
	timeout      time.Duration
	startTimeout time.Duration
	boxes        []int32
	instances    []int32 // those that count against the limits: planned, starting, ready, draining
	starting     []int32 // planned or starting, oldest first
	number       int32   // of the last instance
	inFlight     int
	claimed      int // starting instances that a waiting one counts on
	idle         list
	free         list
	above        int   // idle instances above keep_warm, at the old end of the idle list
	version      int32 // of the code, counted by Replace
	outdated     int   // instances of an older one
	replacing    int32 // the instance that is to take an older one's place, or -1
	failures     int   // starts that failed in a row
	notBefore    clock.Time
	blocked      bool
	held         bool
	attached     bool // its one instance is someone else's process
	oneShot      bool // an instance is gone with its first answer
	mode         plan.Replacement
	renew        int        // instances that are to be there with the new version, of AtOnce
	paced        clock.Time // when the start after the next burst would be due (StartEvery)
	planned      int        // instances that wait for their start
	paceTimer    int32      // until an instance may be added again
	gone         bool       // an instance was there and has gone,
	goneFor      Reason     // the last for this reason
}

type source struct {
	*plan.Source
	firstBox int32
}

// New makes the engine of a run of the project under one limit set for each
// function. settle bounds the time from the last arrival to the end.
func New(p *plan.Project, limits []plan.Limits, settle time.Duration) *Engine {
	e := &Engine{limit: p.Concurrency, settle: settle, justNow: -1, deadline: clock.Never}
	e.functions = make([]function, len(p.Functions))
	for i := range p.Functions {
		e.functions[i] = function{
			limits: limits[i], timeout: p.Functions[i].Timeout, startTimeout: p.Functions[i].StartTimeout,
			idle: newList(byIdle), free: newList(byFree), replacing: -1,
			attached: p.Functions[i].Transport == plan.Attach,
			oneShot:  p.Functions[i].Transport == plan.OneShot, mode: p.Functions[i].Replace, paceTimer: -1,
		}
		e.reserved += limits[i].Guaranteed
	}
	for s := range p.Sources {
		e.sources = append(e.sources, source{&p.Sources[s], int32(len(e.inboxes))})
		for w, wire := range p.Sources[s].Wires {
			box := int32(len(e.inboxes))
			e.inboxes = append(e.inboxes, newInbox(s, w, &p.Sources[s]))
			e.functions[wire.To].boxes = append(e.functions[wire.To].boxes, box)
		}
	}
	e.cursor, e.laneCursor = make([]int32, len(e.inboxes)), make([]int32, len(e.inboxes))
	return e
}

// Handle takes one input. Effects are appended to out, which the caller owns.
// At equal times answers come first, then timers, then arrivals: timers due
// before now are carried out first, each at its own due time; those due at now
// too, unless the input is an answer. The result is when Handle wants to be
// called again, with a Wake if there is nothing else; it may be now.
func (e *Engine) Handle(now clock.Time, in Input, out *Effects) clock.Time {
	e.out = out
	now = max(now, e.now)
	before := now + 1
	if in.Kind.answers() {
		before = now
	}
	e.fire(before)
	e.now = now
	e.justNow = -1
	e.take(in)
	e.rest()
	e.out = nil
	return e.timers.next()
}

func (e *Engine) take(in Input) {
	switch in.Kind {
	case Arrived:
		e.arrive(arrival{source: in.Source, takes: in.Routes, key: in.Key, delay: in.Delay, async: in.Async})
	case Ready:
		e.ready(in.Instance)
	case StartFailed, Exited:
		e.exited(in.Instance)
	case Answered, Broken:
		e.answered(in)
	case CallerLeft: // its answer has no one to go to; the delivery ends as it ends
	case SetLimits:
		e.setLimits(int(in.Function), in.Limits)
	case SetProject:
		e.setProject(int(in.Concurrency))
	case Replace:
		e.replace(int(in.Function))
	case Clear:
		e.clear(int(in.Function))
	case Hold, Release:
		e.hold(int(in.Function), in.Kind == Hold)
	case NoMore:
		e.noMore, e.deadline = true, e.now.Add(e.settle)
		e.timers.set(e.deadline, timerSettle, 0, 0)
	case End:
		e.end()
	case Wake:
		for f := range e.functions {
			e.balance(f)
		}
	}
}

// fire carries out the timers that are due before a time, each at its own.
func (e *Engine) fire(before clock.Time) {
	for {
		t, ok := e.timers.pop(before)
		if !ok {
			return
		}
		e.now = max(e.now, t.at)
		e.justNow = -1
		switch t.kind {
		case timerTimeout:
			e.timedOut(t.a, t.b)
		case timerLease:
			e.leaseLost(t.a, t.b)
		case timerStart:
			e.instances[t.a].timer = -1
			e.startTimedOut(t.a)
		case timerSpawn:
			e.instances[t.a].timer = -1
			e.spawn(t.a)
		case timerIdle:
			e.instances[t.a].timer = -1
			e.stop(t.a, Idle)
			e.balance(int(e.instances[t.a].fn))
		case timerWait:
			e.waited(t.a)
		case timerVisible:
			e.visible(t.a)
		case timerAge:
			e.expire(t.a)
		case timerFill:
			e.inboxes[t.a].timer = -1
			e.balance(int(e.inboxes[t.a].fn))
		case timerLane:
			b := &e.inboxes[t.a]
			b.lanes[t.b-1].timer = -1
			if !e.ended {
				e.openLane(b, t.b)
				e.balance(int(b.fn))
			}
		case timerPace:
			e.functions[t.a].paceTimer = -1
			e.balance(int(t.a))
		case timerSettle:
			e.sayOver()
		}
		e.rest()
	}
}

func (e *Engine) say(f Effect) {
	f.At = e.now
	e.out.List = append(e.out.List, f)
}

// end abandons what is left and stops every instance.
func (e *Engine) end() {
	if e.ended {
		return
	}
	e.ended = true
	for id := range e.pool {
		d := &e.pool[id]
		if d.state == unused {
			continue
		}
		box := &e.inboxes[d.box]
		if d.state == working {
			e.say(Effect{Kind: AttemptEnded, Function: box.fn, Source: box.source, Wire: box.wire, Event: d.event,
				Instance: d.instance, Invocation: d.invocation, Attempt: d.attempts, Result: RunEnded})
		}
		e.finish(int32(id), Abandoned)
	}
	for id := range e.instances {
		in := &e.instances[id]
		for s := range in.slots {
			if in.slots[s].active() {
				e.settleSlot(int32(id), int32(s))
				in.slots[s].state = slotLate
			}
		}
		if in.state != gone && in.state != stopping {
			e.stop(int32(id), RunOver)
		}
	}
}

// rest emits Over once, when the last arrival has come and nothing is left to wait for: no delivery
// open, and no idle stop that settling would still see.
func (e *Engine) rest() {
	if !e.noMore || e.over || e.ended || e.open > 0 {
		return
	}
	for i := range e.functions {
		f := &e.functions[i]
		if len(f.starting) > 0 && len(f.instances) > f.limits.KeepWarm && e.now.Add(f.limits.IdleAfter) <= e.deadline {
			return
		}
		for id := f.idle.oldest; id >= 0 && e.instances[id].above; id = e.instances[id].links[byIdle].newer {
			if e.instances[id].aboveSince.Add(f.limits.IdleAfter) <= e.deadline {
				return
			}
		}
	}
	e.sayOver()
}

// sayOver emits once that the run is over; after its end nothing needs it.
func (e *Engine) sayOver() {
	if !e.over && !e.ended {
		e.over = true
		e.say(Effect{Kind: Over})
	}
}

// Stats is the state of a function at a moment.
type Stats struct {
	Waiting  int // deliveries that wait for an instance, pauses between attempts left out
	InFlight int
	Starting int
	Claimed  int // instances that are starting for a waiting one
	Ready    int // idle and busy
	Idle     int
	IdleStop clock.Time // when the next idle instance goes, or never
	Version  int        // of the code, counted by Replace
	Outdated int        // instances of an older version
	Serving  int        // those of them that still take events
	Held     bool
}

// Stats returns the state of a function.
func (e *Engine) Stats(fn int) Stats {
	f := &e.functions[fn]
	l := Stats{InFlight: f.inFlight, Starting: len(f.starting), Claimed: f.claimed,
		Ready: len(f.instances) - len(f.starting), Idle: f.idle.n, IdleStop: clock.Never,
		Version: int(f.version), Outdated: f.outdated, Held: f.held}
	if f.outdated > 0 {
		for _, id := range f.instances {
			if in := &e.instances[id]; in.state == ready && in.version != f.version {
				l.Serving++
			}
		}
	}
	for _, id := range f.boxes {
		b := &e.inboxes[id]
		l.Waiting += b.loose.n + b.inLanes
	}
	if id := f.idle.oldest; id >= 0 && e.instances[id].above {
		l.IdleStop = e.instances[id].aboveSince.Add(f.limits.IdleAfter)
	}
	return l
}

// Limits returns the limits that hold for a function now.
func (e *Engine) Limits(fn int) plan.Limits { return e.functions[fn].limits }
