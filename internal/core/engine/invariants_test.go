package engine

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"nightdrill/internal/core/chance"
	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/plan"
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
		"crashed", "start failed", "timeout", "lease over", "asked again", "late", "limits", "idle stop", "cold", "first", "warm",
		"dead letter read", "replace", "replaced", "limit lowered", "retry after", "a share is asked for",
		"held", "released", "cleared", "sent while held"} {
		if seen[what] < histories {
			t.Errorf("%q happened %d times in %d histories; that is too rare to prove anything", what, seen[what], histories)
		}
	}
}

// length is the inputs of one history.
const length = 240

// Each checker is proved: with its rule broken in the engine, it notices within
// a few histories.
func TestEveryBrokenRuleIsNoticed(t *testing.T) {
	for broken := kept + 1; broken < rules; broken++ {
		noticed := ""
		for seed := uint64(0); seed < 300 && noticed == ""; seed++ {
			h := newHistory(seed)
			h.e.broken = broken
			if err := h.run(length); err != nil {
				noticed = err.Error()
			}
		}
		if noticed == "" {
			t.Errorf("rule %d was broken in 300 histories and nobody noticed", broken)
		} else {
			t.Logf("rule %d: %s", broken, noticed)
		}
	}
}

// The checker's own view of the world, built from inputs and effects alone.
type history struct {
	r         *chance.Source
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
	lowered   []bool       // a limit was lowered, so that more may be in flight than it allows until they finish
	held      []bool
}

type key struct {
	event int64
	wire  int32
}

type parcel struct {
	source   int32
	attempts int32
	with     int32 // instance, or -1
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
	r := chance.New(seed, 77)
	h := &history{r: r, seen: map[string]int{}, instances: map[int32]*model{}, open: map[key]*parcel{}}
	pick := func(lo, hi int) int { return lo + r.Below(hi-lo+1) }
	ms := func(lo, hi int) time.Duration { return time.Duration(pick(lo, hi)) * time.Millisecond }
	h.p.Concurrency = pick(2, 12)
	shares := 0
	for i := range pick(1, 3) {
		l := plan.Limits{Max: pick(1, 6), PerInstance: pick(1, 3), IdleAfter: ms(20, 400)}
		l.KeepWarm = min(r.Below(2), l.Instances())
		if left := h.p.Concurrency - shares; left > 0 {
			l.Guaranteed = min(r.Below(3), left)
			shares += l.Guaranteed
		}
		h.limits = append(h.limits, l)
		h.lowered = append(h.lowered, false)
		h.held = append(h.held, false)
		h.changed = append(h.changed, 0)
		h.p.Functions = append(h.p.Functions, plan.Function{Name: fmt.Sprintf("f%d", i), Timeout: ms(50, 300), StartTimeout: ms(100, 400), Limits: l})
	}
	wires := func(n int) (w []plan.Wire) {
		for range n {
			w = append(w, plan.Wire{To: r.Below(len(h.p.Functions))})
		}
		return w
	}
	queue := func(name string, wires []plan.Wire, dead int) plan.Source {
		return plan.Source{Name: name, Kind: plan.Queue, Wires: wires, BatchMax: pick(1, 4), BatchWait: ms(0, 30), Lease: ms(40, 400),
			Attempts: pick(1, 3), Backoff: ms(0, 60), MaxAge: ms(0, 1) * 400, DeadLetter: dead}
	}
	h.p.Sources = []plan.Source{
		{Name: "h", Kind: plan.HTTP, Wires: wires(2), Wait: ms(0, 1) * time.Duration(pick(0, 50)), DeadLetter: -1},
		queue("kept", nil, -1),
		queue("read", wires(1), -1),
		queue("a", wires(pick(1, 2)), 1),
		queue("b", wires(1), 2),
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
		switch h.r.Below(20) {
		case 0, 1, 2, 3, 4, 5:
			s := h.r.Below(len(h.p.Sources) - 1) // "kept" has no wires
			if s == 1 {
				s = 4
			}
			in := Input{Kind: Arrived, Source: int32(s), Takes: 1<<len(h.p.Sources[s].Wires) - 1}
			if s == 0 {
				in.Takes = 1 << h.r.Below(2)
			}
			if h.r.Chance(1, 20) {
				in.Takes = 0
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
				switch h.r.Below(8) {
				case 0:
					in.Status = 500
				case 1:
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
		case 18:
			if h.r.Chance(1, 12) {
				h.seen["replace"]++
				return Input{Kind: Replace, Function: int32(h.r.Below(len(h.limits)))}
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
			if h.r.Chance(1, 4) {
				fn := h.r.Below(len(h.limits))
				l := h.limits[fn]
				l.Max = h.r.Below(7)
				l.KeepWarm = min(h.r.Below(3), l.Instances())
				l.IdleAfter = time.Duration(20+h.r.Below(300)) * time.Millisecond
				return Input{Kind: SetLimits, Function: int32(fn), Limits: l}
			}
		default:
			return Input{}
		}
	}
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
	if in.Kind == SetLimits {
		h.seen["limits"]++
		h.lowered[in.Function] = h.lowered[in.Function] || in.Limits.Max < h.limits[in.Function].Max
		h.limits[in.Function], h.changed[in.Function] = in.Limits, now
	}
	switch in.Kind {
	case Hold:
		h.seen["held"]++
		h.held[in.Function], h.lowered[in.Function] = true, true
	case Release:
		h.seen["released"]++
		h.held[in.Function], h.changed[in.Function] = false, now
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
	for i := range h.fx.List {
		h.follow(&h.fx.List[i], in)
	}
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
	case EventTaken:
		if f.Event != h.events {
			panic("events are not numbered in their order")
		}
		h.events++
		takes := in.Takes
		if f.Made {
			h.seen["dead letter read"]++
			takes = 1<<len(h.p.Sources[f.Source].Wires) - 1
		}
		if takes == 0 {
			h.expected++
			h.open[key{f.Event, -1}] = &parcel{source: f.Source, with: -1}
		}
		for w := range h.p.Sources[f.Source].Wires {
			if takes&(1<<w) != 0 {
				h.expected++
				h.open[key{f.Event, int32(w)}] = &parcel{source: f.Source, with: -1}
			}
		}
	case Start:
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
		if h.limits[f.Function].Max == 0 {
			panic("sent at a limit of 0")
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
		}
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
		if src := &h.p.Sources[p.source]; src.Kind == plan.Queue && int(p.attempts) > src.Attempts {
			panic("more attempts than allowed")
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
		delete(h.open, k)
		h.ended++
		h.seen[f.Outcome.String()]++
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
		if m.inFlight > h.p.Functions[m.fn].Limits.PerInstance {
			return fmt.Errorf("%d in flight on one instance", m.inFlight)
		}
		used[m.fn] += m.inFlight
		if m.state == starting && in.claimed {
			used[m.fn]++
		}
		// nothing is idle above keep_warm beyond its time
		if m.state == ready && m.inFlight == 0 && in.above && h.now > max(h.changed[m.fn], in.aboveSince.Add(h.limits[m.fn].IdleAfter)) {
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
		if n := len(h.e.functions[fn].instances); n < min(l.KeepWarm, l.Instances()) && !h.held[fn] {
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
		if h.held[fn] {
			most = 2 // one, and one that takes its place
		}
		if staying > most {
			return fmt.Errorf("f%d has %d instances, at most %d are allowed", fn, staying, most)
		}
		// what is guaranteed is there when it is asked for
		asked := h.e.units(f) > f.claimed*l.PerInstance && f.used() < min(l.Guaranteed, l.Max)
		if l.Guaranteed > 0 && f.used() > 0 && f.used() <= l.Guaranteed {
			h.seen["a share is asked for"]++
		}
		if asked && h.e.timers.next() > h.now && (f.free.n > 0 || len(f.instances) < f.most()) {
			return fmt.Errorf("f%d uses %d of the %d guaranteed for it, and something waits", fn, f.used(), l.Guaranteed)
		}
	}
	if total > h.p.Concurrency {
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
