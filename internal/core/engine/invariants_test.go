package engine

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/rng"
)

// TestInvariants runs the engine through random histories, each from its own
// seed, and checks after every input what must always hold. The histories must
// be rich: every outcome and every kind of trouble has to be common in them.
func TestInvariants(t *testing.T) {
	histories := 10_000
	if testing.Short() {
		histories = 500
	}
	seen := map[string]int{}
	for seed := range histories {
		h := newHistory(uint64(seed))
		if err := h.run(length); err != nil {
			again := newHistory(uint64(seed))
			again.keep = true
			_ = again.run(length)
			t.Fatalf("seed %d, input %d: %v\n%s", seed, h.inputs, err, again.tail())
		}
		for k, n := range h.seen {
			seen[k] += n
		}
	}
	for _, what := range []string{"done", "failed", "dead_lettered", "rejected", "expired", "unmatched", "abandoned",
		"crashed", "start failed", "timeout", "lease expired", "retry requested", "late", "limits", "idle stop", "cold",
		"first", "warm",
		"dead letter read", "replace", "replaced", "limit lowered", "retry after", "a share is asked for",
		"finished", "no instance", "all busy", "the last one had stopped", "to keep one warm", "new version",
		"the function's limit", "the project's limit",
		"the start rate", "a limit of 0", "everything is rejected", "a start was bounded", "project", "fewer slots",
		"more slots",
		"one_by_one", "at_once", "side_by_side",
		"held", "released", "cleared", "sent while held",
		"skipped", "acknowledgement lost", "behind a failed record", "sent on", "lease extended",
		"record alone given up", "in a group", "found by a poll", "delayed"} {
		if seen[what] < histories {
			t.Errorf("%q happened %d times in %d histories; that is too rare to prove anything", what, seen[what],
				histories)
		}
	}
}

// length is the inputs of one history.
const length = 300

// The checker's own view of the world, built from inputs and effects alone.
type history struct {
	r         *rng.Source
	p         plan.Project
	limits    []plan.Limits
	e         *Engine
	fx        Effects
	now       clock.Time
	inputs    int
	seen      map[string]int
	keep      bool // the log, to be shown when a rule is broken
	log       []string
	instances map[int32]*model
	flights   []*flight
	open      map[key]*parcel
	events    int64
	expected  int // deliveries that the arrivals must have
	ended     int
	changed   []clock.Time // when the limits of a function were changed last
	paced     []clock.Time // of the start rate
	narrow    bool         // the project's limit was lowered, as below
	lowered   []bool       // a limit was lowered, so that more may be in flight than it allows until they finish
	held      []bool
	failing   map[uint64]int // deliveries of an invocation that failed
	onward    int            // replies of this step that were sent on
	heard     func(clock.Time, Input)
}

type key struct {
	event int64
	wire  int32
}

type parcel struct {
	source   int32
	attempts int32
	with     int32 // instance, or -1
	lane     int32
	visible  clock.Time
	last     uint64 // its last invocation that failed
	sent     clock.Time
}

type model struct {
	fn        int32
	state     instanceState
	idleSince clock.Time
	inFlight  int
}

type flight struct {
	instance, slot int32
	invocation     uint64
	fn             int32
	events         []int64
	source         int32
	counts         bool // in flight by the rules: not timed out
}

func newHistory(seed uint64) *history {
	r := rng.New(seed, 77)
	h := &history{r: r, seen: map[string]int{}, instances: map[int32]*model{}, open: map[key]*parcel{},
		failing: map[uint64]int{}}
	pick := func(lo, hi int) int { return lo + r.Below(hi-lo+1) }
	ms := func(lo, hi int) time.Duration { return time.Duration(pick(lo, hi)) * time.Millisecond }
	h.p.Concurrency = pick(2, 12)
	shares := 0
	for i := range pick(1, 3) {
		l := plan.Limits{Max: pick(1, 6), PerInstance: pick(1, 3), IdleAfter: ms(10, 120)}
		if r.Chance(1, 3) {
			l.StartEvery, l.StartBurst = ms(20, 300), r.Below(3)
		}
		l.KeepWarm = min(r.Below(2), l.Instances())
		if left := h.p.Concurrency - shares; left > 0 {
			l.Guaranteed = min(r.Below(3), left)
			shares += l.Guaranteed
		}
		f := plan.Function{Name: fmt.Sprintf("f%d", i), Timeout: ms(50, 300), StartTimeout: ms(100, 400),
			Replace: plan.Replacement(r.Below(3))}
		if r.Chance(1, 5) {
			f.Transport, l.PerInstance, l.KeepWarm = plan.OneShot, 1, 0
		}
		f.Limits = l
		h.limits, h.paced = append(h.limits, l), append(h.paced, 0)
		h.lowered = append(h.lowered, false)
		h.held = append(h.held, false)
		h.changed = append(h.changed, 0)
		h.p.Functions = append(h.p.Functions, f)
	}
	wires := func(n int) (w []plan.Wire) {
		for range n {
			w = append(w, plan.Wire{To: r.Below(len(h.p.Functions))})
		}
		return w
	}
	queue := func(name string, wires []plan.Wire, dead int) plan.Source {
		return plan.Source{Name: name, Kind: plan.Queue, Wires: wires, BatchMax: pick(1, 4), BatchWait: ms(0, 30),
			Lease:    ms(40, 400),
			Attempts: pick(1, 3), Backoff: ms(0, 60), MaxAge: ms(0, 1) * 400, DeadLetter: dead}
	}
	sorted := queue("sorted", wires(1), 2)
	sorted.Key, sorted.Delay = "group", ms(0, 1)*20
	sorted.Lease = ms(10, 40)
	sorted.LeaseMost = sorted.Lease * time.Duration(pick(1, 4))
	stream := func(name string, f plan.OnFailure, dead int) plan.Source {
		return plan.Source{Name: name, Kind: plan.Stream, Wires: wires(1), Partitions: pick(1, 2), BatchMax: pick(2, 6),
			BatchWait: ms(0, 30),
			Attempts:  pick(1, 3), Backoff: ms(0, 40), OnFailure: f, DeadLetter: dead}
	}
	schedule := func(name string, w plan.WhileRunning) plan.Source {
		return plan.Source{Name: name, Kind: plan.Schedule, Wires: wires(1), WhileRunning: w, Attempts: pick(1, 2),
			DeadLetter: -1}
	}
	h.p.Sources = []plan.Source{
		{Name: "h", Kind: plan.HTTP, Wires: wires(2), Wait: ms(0, 1) * time.Duration(pick(0, 50)), DeadLetter: -1},
		queue("kept", nil, -1),
		queue("read", wires(1), -1),
		queue("a", wires(pick(1, 2)), 1),
		queue("b", wires(1), 2),
		sorted,
		stream("halved", plan.Split, 1),
		stream("read in a row", plan.Split, -1),
		stream("skipping", plan.Skip, -1),
		schedule("dropping", plan.Drop),
		schedule("waiting", plan.Wait),
		{Name: "bucket", Kind: plan.Storage, Wires: wires(pick(1, 2)), Poll: ms(0, 1) * 50, Attempts: pick(1, 3),
			Backoff: ms(0, 30), DeadLetter: -1},
	}
	h.e = New(&h.p, h.limits, 500*time.Millisecond)
	return h
}

func (h *history) run(n int) (err error) {
	defer func() {
		if broken := recover(); broken != nil {
			err = fmt.Errorf("%v", broken)
		}
	}()
	next := h.step(Input{})
	for h.inputs < n {
		in := h.random()
		if h.r.Chance(1, 10) {
			h.now = max(h.now, min(next, h.now.Add(time.Second))) // exactly when a timer is due
		} else {
			h.now = h.now.Add(h.r.Exp(8 * time.Millisecond))
		}
		next = h.step(in)
		if err := h.check(); err != nil {
			return err
		}
	}
	// settling, to its end or not, and what comes after the end
	if h.r.Chance(1, 2) {
		h.step(Input{Kind: NoMore})
		h.now = h.now.Add(h.r.Exp(500 * time.Millisecond))
		h.step(Input{})
	}
	h.step(Input{Kind: End})
	h.now = h.now.Add(time.Minute)
	for _, f := range slices.Clone(h.flights) {
		h.step(Input{Kind: Broken, Instance: f.instance, Slot: f.slot, Invocation: f.invocation, Result: Disconnected})
	}
	if len(h.open) > 0 || h.ended != h.expected {
		return fmt.Errorf("after the end %d deliveries are open; %d ended of %d", len(h.open), h.ended, h.expected)
	}
	return nil
}

// random makes an input that could happen now.
func (h *history) random() Input {
	var startingUp, stoppingNow, alive []int32
	for id := range h.e.instances { // in the order of their numbers
		switch m := h.instances[int32(id)]; {
		case m == nil:
		case m.state == starting:
			startingUp = append(startingUp, int32(id))
		case m.state == stopping:
			stoppingNow = append(stoppingNow, int32(id))
		case m.state == ready:
			alive = append(alive, int32(id))
		}
	}
	any := func(ids []int32) int32 { return ids[h.r.Below(len(ids))] }
	for {
		switch h.r.Below(22) {
		case 0, 1, 2, 3, 4, 5:
			t := h.event()
			in := Input{Kind: Arrived, Source: t.Source, Routes: t.Takes, Key: t.Key, Async: h.r.Chance(1, 8)}
			if h.r.Chance(1, 8) {
				h.seen["delayed"]++
				in.Delay = time.Duration(h.r.Below(60)) * time.Millisecond
			}
			if h.r.Chance(1, 20) {
				in.Routes = 0
			}
			return in
		case 6, 7, 8, 9:
			if len(startingUp) > 0 {
				return Input{Kind: Ready, Instance: any(startingUp)}
			}
		case 10:
			if len(startingUp) > 0 && h.r.Chance(1, 2) {
				return Input{Kind: StartFailed, Instance: any(startingUp)}
			}
		case 11, 12, 13, 14, 15:
			if len(h.flights) > 0 {
				f := h.flights[h.r.Below(len(h.flights))]
				in := Input{Kind: Answered, Instance: f.instance, Slot: f.slot, Invocation: f.invocation, Status: 200}
				switch h.r.Below(10) {
				case 9:
					in.AckLost = true
				case 8:
					if t := h.event(); h.r.Chance(1, 2) {
						in.Then = []Then{t, h.event()}
					} else {
						in.Then = []Then{t}
					}
				case 0:
					in.Status = 500
				case 1, 6, 7:
					in.Retry = []int32{int32(h.r.Below(len(f.events)))}
				case 2:
					in.Kind, in.Status, in.Result = Broken, 0, Disconnected
				case 3:
					in.Status, in.RetryAfter = 503, time.Duration(h.r.Below(200))*time.Millisecond
					h.seen["retry after"]++
				}
				return in
			}
		case 16:
			if len(stoppingNow) > 0 {
				return Input{Kind: Exited, Instance: any(stoppingNow)}
			}
		case 17:
			if len(alive) > 0 && h.r.Chance(1, 4) {
				return Input{Kind: Exited, Instance: any(alive)}
			}
		case 18, 20, 21:
			if h.r.Chance(1, 4) {
				h.seen["replace"]++
				fn := h.r.Below(len(h.limits))
				h.seen[h.p.Functions[fn].Replace.String()]++
				return Input{Kind: Replace, Function: int32(fn)}
			}
			if h.r.Chance(1, 12) {
				return Input{Kind: Clear, Function: int32(h.r.Below(len(h.limits)))}
			}
			if fn := h.r.Below(len(h.limits)); h.r.Chance(1, 10) || h.held[fn] && h.r.Chance(9, 10) {
				kind := Hold
				if h.held[fn] {
					kind = Release
				}
				return Input{Kind: kind, Function: int32(fn)}
			}
			if h.r.Chance(1, 8) {
				shares := 0
				for _, l := range h.limits {
					shares += l.Guaranteed
				}
				return Input{Kind: SetProject, Concurrency: int32(max(1+h.r.Below(12), shares))}
			}
			if h.r.Chance(2, 3) {
				fn := h.r.Below(len(h.limits))
				l := h.limits[fn]
				l.Max = h.r.Below(6)
				if l.StartEvery = 0; h.r.Chance(1, 2) {
					l.StartEvery, l.StartBurst = time.Duration(1+h.r.Below(200))*time.Millisecond, h.r.Below(3)
				}
				l.TurnAway = h.r.Chance(1, 4)
				if h.p.Functions[fn].Transport != plan.OneShot {
					l.PerInstance = 1 + h.r.Below(3)
					l.KeepWarm = min(h.r.Below(3), l.Instances())
				}
				l.IdleAfter = time.Duration(10+h.r.Below(150)) * time.Millisecond
				return Input{Kind: SetLimits, Function: int32(fn), Limits: l}
			}
		default:
			return Input{}
		}
	}
}

// event makes an event of some source.
func (h *history) event() Then {
	s := h.r.Below(len(h.p.Sources))
	if h.r.Chance(1, 6) {
		s = 0
	}
	for len(h.p.Sources[s].Wires) == 0 {
		s = h.r.Below(len(h.p.Sources))
	}
	src := &h.p.Sources[s]
	t := Then{Source: int32(s), Takes: 1<<len(src.Wires) - 1}
	switch {
	case src.Kind == plan.HTTP:
		t.Takes = 1 << h.r.Below(2)
	case src.Kind == plan.Stream:
		t.Key = int32(h.r.Below(src.Partitions)) + 1
	case src.Key != "":
		t.Key = int32(h.r.Below(4)) // 0: of no group
	}
	return t
}

// step hands an input over, after the timers that are due before it.
func (h *history) step(in Input) clock.Time {
	h.inputs++
	if in.Kind.answers() {
		h.handle(h.now-1, Input{})
	} else {
		h.handle(h.now, Input{})
	}
	return h.handle(h.now, in)
}

// handle follows the effects of an input in the checker's own model.
func (h *history) handle(now clock.Time, in Input) clock.Time {
	h.fx.Reset()
	h.onward = 0
	if in.Kind == SetLimits {
		h.seen["limits"]++
		was := &h.limits[in.Function]
		h.lowered[in.Function] = h.lowered[in.Function] || in.Limits.Max < was.Max
		h.paced[in.Function] = min(h.paced[in.Function],
			now.Add(in.Limits.StartEvery*time.Duration(max(1, in.Limits.StartBurst))))
		if in.Limits.PerInstance < was.PerInstance {
			h.seen["fewer slots"]++
		} else if in.Limits.PerInstance > was.PerInstance {
			h.seen["more slots"]++
		}
		h.limits[in.Function], h.changed[in.Function] = in.Limits, now
	}
	switch in.Kind {
	case SetProject:
		h.seen["project"]++
		h.narrow = h.narrow || int(in.Concurrency) < h.p.Concurrency
		h.p.Concurrency = int(in.Concurrency)
	case Hold:
		h.seen["held"]++
		h.held[in.Function], h.lowered[in.Function] = true, true
	case Release:
		h.seen["released"]++
		h.held[in.Function], h.changed[in.Function] = false, now
	}
	if h.heard != nil {
		h.heard(now, in)
	}
	wake := h.e.Handle(now, in, &h.fx)
	if h.keep {
		h.log = append(h.log, fmt.Sprintf("%v %+v", h.now, in))
	}
	for i := range h.fx.List {
		if !h.keep {
			break
		}
		h.log = append(h.log, fmt.Sprintf("  %v %s", h.fx.List[i].At, h.fx.List[i].Describe(&h.p, h.fx.Events)))
	}
	// what the input itself did to the model
	switch in.Kind {
	case Ready:
		if m := h.instances[in.Instance]; m.state == starting {
			m.state, m.idleSince = ready, h.now
		}
	case StartFailed, Exited:
		h.instances[in.Instance].state, h.instances[in.Instance].inFlight = gone, 0
		kept := h.flights[:0]
		for _, f := range h.flights {
			if f.instance != in.Instance {
				kept = append(kept, f)
			}
		}
		h.flights = kept
	case Answered, Broken:
		for i, f := range h.flights {
			if f.instance == in.Instance && f.invocation == in.Invocation {
				h.land(f)
				h.flights = append(h.flights[:i], h.flights[i+1:]...)
				break
			}
		}
	}
	settled, sentOn := false, 0
	for i := range h.fx.List {
		f := &h.fx.List[i]
		h.follow(f, in)
		settled = settled || f.Kind == AttemptEnded && f.Invocation == in.Invocation && f.Status == in.Status &&
			(f.Result == OK || f.Result == Retried || f.Result == Behind)
		if f.Kind == EventTaken && f.Origin == FromReply {
			sentOn++
		}
	}
	if in.Kind == Answered && in.AckLost && settled {
		panic("the acknowledgement was lost, and the source heard of it")
	}
	if want := len(in.Then); in.Kind == Answered && settled && sentOn != want || !settled && sentOn > 0 {
		panic(fmt.Sprintf("%d replies are sent on, %d were to be", sentOn, want))
	}
	h.seen["sent on"] += sentOn
	return wake
}

func (h *history) land(f *flight) {
	m := h.instances[f.instance]
	if f.counts {
		m.inFlight--
		if m.inFlight == 0 {
			m.idleSince = h.now
		}
	}
	f.counts = false
}

func (h *history) follow(f *Effect, in Input) {
	switch f.Kind {
	case Extended:
		h.seen["lease extended"]++
	case EventTaken:
		if f.Event != h.events {
			panic("events are not numbered in their order")
		}
		h.events++
		takes, lane, delay := in.Routes, in.Key, in.Delay
		switch f.Origin {
		case FromDeadLetter:
			h.seen["dead letter read"]++
			takes, lane, delay = 1<<len(h.p.Sources[f.Source].Wires)-1, 0, 0
		case FromReply:
			t := in.Then[h.onward]
			takes, lane, delay = t.Takes, t.Key, 0
			h.onward++
		}
		src := &h.p.Sources[f.Source]
		visible := f.At.Add(delay + src.Delay)
		if src.Poll > 0 {
			visible = (visible/clock.Time(src.Poll) + 1) * clock.Time(src.Poll)
			h.seen["found by a poll"]++
		}
		if src.Kind == plan.Schedule {
			lane = 1
		} else if src.Kind == plan.Queue && lane > 0 {
			h.seen["in a group"]++
		}
		if takes == 0 {
			h.expected++
			h.open[key{f.Event, -1}] = &parcel{source: f.Source, with: -1}
		}
		for w := range h.p.Sources[f.Source].Wires {
			if takes&(1<<w) != 0 {
				h.expected++
				h.open[key{f.Event, int32(w)}] = &parcel{source: f.Source, with: -1, lane: lane, visible: visible}
			}
		}
	case Start:
		h.seen[f.Cause.String()]++
		if l := &h.limits[f.Function]; l.StartEvery > 0 {
			if f.At < h.paced[f.Function].Add(-l.StartEvery*time.Duration(max(l.StartBurst, 1)-1)) {
				panic("an instance is added earlier than the start rate allows")
			}
			h.seen["a start was bounded"]++
		}
		h.paced[f.Function] = max(h.paced[f.Function], f.At).Add(h.limits[f.Function].StartEvery)
		h.instances[f.Instance] = &model{fn: f.Function, state: starting}
	case Send:
		events := append([]int64(nil), h.fx.Events[f.First:f.First+f.N]...)
		h.flights = append(h.flights, &flight{f.Instance, f.Slot, f.Invocation, f.Function, events, f.Source, true})
		m := h.instances[f.Instance]
		if m.state != ready {
			panic(fmt.Sprintf("sent to an instance in state %d", m.state))
		}
		m.inFlight++
		h.seen[f.Class.String()]++
		if h.held[f.Function] {
			h.seen["sent while held"]++
		}
		if h.limits[f.Function].Max == 0 || h.limits[f.Function].TurnAway {
			panic("sent at a limit of 0, or while everything is rejected")
		}
		if m.inFlight > h.limits[f.Function].PerInstance {
			panic(fmt.Sprintf("%d in flight on one instance", m.inFlight))
		}
		if h.p.Functions[f.Function].Transport == plan.OneShot && f.Class != Cold {
			panic("not cold, and a process of its own")
		}
		if src := &h.p.Sources[f.Source]; src.Kind == plan.Queue && int(f.N) > src.BatchMax || f.N < 1 {
			panic(fmt.Sprintf("a batch of %d", f.N))
		}
		for _, ev := range events {
			p := h.open[key{ev, f.Wire}]
			if p == nil || p.with >= 0 {
				panic(fmt.Sprintf("event %d is sent while it is with another or over", ev))
			}
			p.with = f.Instance
			p.attempts++
			p.sent = f.At
			if f.At < p.visible {
				panic(fmt.Sprintf("event %d is sent at %v, it cannot be seen before %v", ev, f.At, p.visible))
			}
		}
		h.inOrder(events, f.Wire)
	case AttemptEnded:
		h.seen[f.Result.String()]++
		p := h.open[key{f.Event, f.Wire}]
		if f.Instance < 0 {
			p.attempts++
		}
		p.with = -1
		if p.attempts != f.Attempt {
			panic(fmt.Sprintf("attempt %d, counted %d", f.Attempt, p.attempts))
		}
		src := &h.p.Sources[p.source]
		if src.Kind != plan.HTTP && src.Kind != plan.Stream && int(p.attempts) > src.Attempts {
			panic("more attempts than allowed")
		}
		// of one that was never sent it is not known here with how many it was
		if p.last = f.Invocation; f.Result != OK && f.Invocation > 0 {
			h.failing[p.last]++
		}
		if f.Result == LeaseOver && f.At < p.sent.Add(max(src.Lease, src.LeaseMost)) {
			panic("the lease is over before its time")
		}
	case GivenUp:
		if h.held[f.Function] {
			panic("given up while it is held")
		}
		for _, x := range h.flights {
			if x.invocation == f.Invocation && x.counts {
				h.land(x)
			}
		}
	case Ended:
		k := key{f.Event, f.Wire}
		p := h.open[k]
		if p == nil {
			panic(fmt.Sprintf("event %d ended twice or was never there", f.Event))
		}
		if p.with >= 0 {
			panic("ended while an instance has it")
		}
		src := &h.p.Sources[p.source]
		if src.Kind == plan.Stream && (f.Outcome == Failed || f.Outcome == DeadLettered) {
			if int(p.attempts) < src.Attempts || src.OnFailure == plan.Split && h.failing[p.last] > 1 {
				panic(fmt.Sprintf("a record is given up after %d attempts, with %d others", p.attempts,
					h.failing[p.last]-1))
			}
			if src.OnFailure == plan.Split {
				h.seen["record alone given up"]++
			}
		}
		beside := 0
		for other, q := range h.open {
			if other.wire == k.wire && q.source == p.source && other != k {
				beside++
			}
		}
		if src.WhileRunning == plan.Drop && src.Kind == plan.Schedule && f.Outcome != Abandoned &&
			f.Outcome != Unmatched && (f.Outcome == Skipped) != (beside > 0) {
			panic(fmt.Sprintf("an event of a schedule is %v, with %d others", f.Outcome, beside))
		}
		delete(h.open, k)
		h.ended++
		if h.seen[f.Outcome.String()]++; f.Outcome == Rejected {
			h.seen[f.Cause.String()]++
			if l := h.limits[f.Function]; (f.Cause == LimitZero) != (l.Max == 0 && !l.TurnAway) ||
				(f.Cause == TurnedAway) != l.TurnAway || f.Cause == NoCause {
				panic("rejected for a reason that is not so: " + f.Cause.String())
			}
		}
	case Over:
		if h.seen["over"]++; h.seen["over"] > 1 {
			panic("over is said twice")
		}
	case Late:
		h.seen["late"]++
	case Stop:
		m := h.instances[f.Instance]
		h.seen[f.Reason.String()]++
		if (f.Reason == Replaced || f.Reason == Cleared) && m.inFlight > 0 {
			panic("replaced while it works")
		}
		if h.held[m.fn] && (f.Reason == Idle && m.state == ready || f.Reason == NeverReady) {
			panic(fmt.Sprintf("stopped while it is held: %v", f.Reason))
		}
		if f.Reason == Idle {
			h.seen["idle stop"]++
			if m.inFlight > 0 || m.state != ready {
				panic("an idle stop of an instance that is not idle")
			}
			if due := m.idleSince.Add(h.limits[m.fn].IdleAfter); f.At < due && !h.lowered[m.fn] {
				panic(fmt.Sprintf("an idle stop at %v, due at %v", f.At, due))
			}
		}
		m.state = stopping
	}
}

// inOrder looks at a batch that was just sent: whatever is open in the same
// partition or group and could be seen earlier stands before it in the batch, and
// nothing of it is with another instance.
func (h *history) inOrder(events []int64, wire int32) {
	place := map[int64]int{}
	for i, ev := range events {
		place[ev] = i + 1
	}
	for _, ev := range events {
		p := h.open[key{ev, wire}]
		if p.lane == 0 {
			continue
		}
		for other, q := range h.open {
			if other.wire != wire || q.source != p.source || q.lane != p.lane || other.event == ev {
				continue
			}
			at := place[other.event]
			if at == 0 && q.with >= 0 {
				panic(fmt.Sprintf("event %d of a lane is sent while %d of it is with an instance", ev, other.event))
			}
			if q.visible < p.visible && (at == 0 || at > place[ev]) {
				panic(fmt.Sprintf("event %d of a lane is sent before %d, which came earlier", ev, other.event))
			}
		}
	}
}

// check looks at counts and limits after an input.
func (h *history) check() error {
	used := make([]int, len(h.limits))
	total := 0
	for id := range h.e.instances {
		m := h.instances[int32(id)]
		if m == nil {
			continue
		}
		in := &h.e.instances[id]
		used[m.fn] += m.inFlight
		if m.state == starting && in.claimed {
			used[m.fn]++
		}
		// nothing is idle above keep_warm beyond its time
		if m.state == ready && m.inFlight == 0 && in.above && h.now > max(h.changed[m.fn],
			in.aboveSince.Add(h.limits[m.fn].IdleAfter)) {
			return fmt.Errorf("instance %d is idle since %v and still there", id, in.aboveSince)
		}
	}
	for fn, l := range h.limits {
		if used[fn] <= l.Max {
			h.lowered[fn] = false
		} else if !h.lowered[fn] {
			return fmt.Errorf("f%d: %d in flight and starting, the limit is %d", fn, used[fn], l.Max)
		}
		if got := h.e.functions[fn].used(); got < used[fn] {
			return fmt.Errorf("f%d counts %d in use, there are %d", fn, got, used[fn])
		}
		total += used[fn]
		if n := len(h.e.functions[fn].instances); n < min(l.KeepWarm, l.Instances()) && !h.held[fn] &&
			h.e.functions[fn].paceTimer < 0 {
			return fmt.Errorf("f%d has %d instances, %d are to be kept warm", fn, n, l.KeepWarm)
		}
	}
	for fn, l := range h.limits {
		f := &h.e.functions[fn]
		staying := 0 // those that are drained may finish
		for _, id := range f.instances {
			if h.e.instances[id].state != draining {
				staying++
			}
		}
		most := l.Instances() + 1
		if h.p.Functions[fn].Replace == plan.SideBySide {
			most = 2 * l.Instances()
		}
		if h.held[fn] {
			most = 2 // one, and one that takes its place
		}
		if staying > most {
			return fmt.Errorf("f%d has %d instances, at most %d are allowed", fn, staying, most)
		}
		// what is guaranteed is there when it is requested
		asked := h.e.units(f) > f.claimed*l.PerInstance && f.used() < min(l.Guaranteed, l.Max) && !l.TurnAway &&
			f.paceTimer < 0
		if l.Guaranteed > 0 && f.used() > 0 && f.used() <= l.Guaranteed {
			h.seen["a share is asked for"]++
		}
		if asked && h.e.timers.next() > h.now && (f.free.n > 0 || len(f.instances) < f.most()) {
			return fmt.Errorf("f%d uses %d of the %d guaranteed for it, and something waits", fn, f.used(),
				l.Guaranteed)
		}
	}
	shares := 0 // what is guaranteed is given, also where others still hold more than is left
	for fn, l := range h.limits {
		shares += max(h.e.functions[fn].used(), l.Guaranteed)
	}
	if shares <= h.p.Concurrency {
		h.narrow = false
	} else if total > h.p.Concurrency && !h.narrow {
		return fmt.Errorf("%d in flight and starting in all, the project's limit is %d", total, h.p.Concurrency)
	}
	return nil
}

func (h *history) tail() string {
	s := ""
	for _, line := range h.log[max(0, len(h.log)-40):] {
		s += line + "\n"
	}
	return s
}
