package runner

import (
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"math"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/transport"
)

// levelEvery bounds how often the state of functions is recorded.
const levelEvery = 10 * time.Millisecond

// ledger is what a drill records.
type ledger struct {
	rec        record.Run         // without its instances and notes, which the runner has
	payloads   []*payload.Payload // those of rec.Payloads
	expects    []*payload.Expect  // of the replies to them
	expecting  bool               // there are any of those
	unexpected int
	doubts     map[[2]int32][]doubt // by instance and slot, in order
	fixed      int                  // payloads that were there from the start
	uses       map[int32]*reply     // of those that were made of replies since
	byReply    map[uint64]int32     // numbers of the payloads that were made of replies
	done       []int32              // payloads of which an event has ended in this step
	routes     map[[2]int32]uint64
	events     []eventInfo // beside rec.Arrivals
	explained  []bool      // of each source: an unmatched event was explained
	itself     []int       // requests of each source that it answered itself
	extended   []int       // leases of each source
	failures   map[string]*failure
	replies    map[uint64]int32 // numbers of the replies that were kept, by their keys
	timings    map[string]int32
	labels     map[string]int32 // of calls to upstreams
	unrecorded map[string]bool  // calls without a recorded reply that were named
	traces     spanBook
	kept       int // bytes of replies
	given      int // bytes of events
	levels     []record.Level
	levelsAt   clock.Time
	levelsDue  bool
}

// eventInfo is what the driver knows of an event beside its arrival.
type eventInfo struct {
	feed   int32 // -1 for a dead letter
	caller int32
	open   int32 // deliveries without an outcome
	pause  time.Duration
	steps  int32 // of the chain that led to it
	lose   bool  // the acknowledgement of its first good attempt is lost
	failed bool  // some of its deliveries
	last   attempt
	// done is called once all its deliveries have their outcome, with the lock held; nil for no one
	done func(failed bool)
}

// arrivalInfo is an event that is being handed in.
type arrivalInfo struct {
	arrival record.Arrival
	info    eventInfo
	payload *payload.Payload // of a reply that is sent on
}

// failure is one way in which functions failed.
type failure struct {
	text  string
	times int
}

// newRecord begins the record of a drill's run.
func newRecord(p *plan.Project, d *plan.Drill, c Config) ledger {
	r := ledger{failures: map[string]*failure{}, doubts: map[[2]int32][]doubt{},
		routes: map[[2]int32]uint64{}, replies: map[uint64]int32{},
		labels: map[string]int32{}, unrecorded: map[string]bool{},
		timings: map[string]int32{}, byReply: map[uint64]int32{}, uses: map[int32]*reply{},
		explained: make([]bool, len(p.Sources)), itself: make([]int, len(p.Sources)),
		extended: make([]int, len(p.Sources)),
		levels:   make([]record.Level, len(p.Functions))}
	r.rec = record.Run{Project: p.Name, Drill: d.Name, ID: c.ID, Seed: d.Seed, Concurrency: p.Concurrency,
		Busy: math.NaN(), Idempotence: d.Idempotence, Rates: p.Rates, Marks: d.Marks}
	if d.Cold != nil && d.Cold.Early {
		n, warm := coldRounds(d.Cold)
		r.rec.EarlyOf = n - warm
	}
	for i := range p.Functions {
		l := d.Limits[i]
		f := &p.Functions[i]
		way := "new process"
		switch {
		case f.Parked > 0:
			way = "parked"
		case f.Prepare != nil:
			way = "prepared"
		}
		rec := record.Function{Name: f.Name, Max: l.Max, PerInstance: l.PerInstance, KeepWarm: l.KeepWarm,
			Guaranteed: l.Guaranteed,
			Attached:   f.Transport == plan.Attach, OneShot: f.Transport == plan.OneShot, Way: way, Memory: f.Memory,
			Spans:    f.Spans,
			CPU:      f.CPU,
			Enforced: enforced(f), Meter: meterOf(f)}
		if i < len(c.Code) {
			rec.Version, rec.Prepared, rec.Size = c.Code[i].Version, c.Code[i].Prepared, c.Code[i].Size
		}
		r.rec.Functions = append(r.rec.Functions, rec)
	}
	for i := range p.Sources {
		s := record.Source{Name: p.Sources[i].Name, Kind: p.Sources[i].Kind.String()}
		for w := range p.Sources[i].Wires {
			s.To = append(s.To, p.Sources[i].Wires[w].To)
			if p.Sources[i].Kind == plan.HTTP {
				s.Routes = append(s.Routes, p.Sources[i].Wires[w].When.String())
			}
		}
		r.rec.Sources = append(r.rec.Sources, s)
	}
	if set := c.Upstreams; set != nil {
		recorded := set.Recorded()
		for i := range set.Upstreams {
			u := &set.Upstreams[i]
			r.rec.Upstreams = append(r.rec.Upstreams, record.Upstream{Name: u.Name, Mode: u.Mode.String(),
				Behaviour: u.Behaviour, Proxy: u.Proxy, Recorded: recorded[i]})
		}
	}
	for _, b := range d.Budgets {
		r.rec.Budgets = append(r.rec.Budgets, b.Text)
	}
	r.rec.Plan, r.rec.Machine, r.rec.Commit, r.rec.Branch = c.Plan, c.Machine, c.Commit, c.Branch
	return r
}

// meterOf returns what the use of a function's instances is counted by; "" where nothing of
// it is known.
func meterOf(f *plan.Function) string {
	if f.Transport == plan.Attach || f.Stop != nil {
		return ""
	}
	return proc.Meter()
}

// enforced reports whether a function's bounds are, in words; "" where it has none.
func enforced(f *plan.Function) string {
	if f.Memory == 0 && f.CPU == 0 {
		return ""
	}
	if f.Stop != nil {
		return "not enforced: its process was started elsewhere"
	}
	return proc.Bounded().Says(proc.Bounds{Memory: f.Memory, CPU: f.CPU})
}

// payloadsOf takes the payloads of a set up, and returns the number of the first.
func (d *Drill) payloadsOf(set *payload.Set) int32 {
	first := int32(len(d.payloads))
	for n := range set.Payloads {
		d.payloads, d.expects = append(d.payloads, &set.Payloads[n]), append(d.expects, set.ExpectOf(n))
		d.expecting = d.expecting || set.ExpectOf(n) != nil
		d.rec.Payloads = append(d.rec.Payloads, record.Payload{Set: set.Name, N: n + 1, Label: set.Payloads[n].Label(),
			Blob: d.keep(EventText(&set.Payloads[n]), &d.given, payloadQuota)})
	}
	return first
}

// A run keeps at most so many bytes of replies, and of the events that it was given.
const (
	quota        = 64 << 20
	payloadQuota = 256 << 20
)

// keep keeps bytes and returns their number, or 0 when the quota is used up.
func (d *Drill) keep(text []byte, used *int, most int) int32 {
	if *used+len(text) > most {
		*used = most
		return 0
	}
	*used += len(text)
	d.rec.Blobs = append(d.rec.Blobs, text)
	return int32(len(d.rec.Blobs))
}

// EventText returns what is kept of an event: all of it, so that it can be sent again.
func EventText(p *payload.Payload) []byte {
	if p.Request != nil {
		m := transport.Build(context.Background(), nil, p.Request, nil, false)
		return append(m.Text(), m.Body[min(len(m.Body), transport.Kept):]...)
	}
	return p.Event.AppendJSON(nil)
}

// keepObjects keeps the bytes of the objects that events of storage sources report;
// read returns them, or nil.
func (d *Drill) keepObjects(read func(bucket, key string) []byte) {
	for i := range d.payloads {
		p := d.payloads[i]
		if p.Event == nil {
			continue
		}
		if o, ok := event.ObjectOf(p.Event); ok && o.Action != event.Removed {
			if data := read(o.Bucket, o.Key); data != nil {
				d.rec.Payloads[i].Object = d.keep(data, &d.given, payloadQuota)
			}
		}
	}
}

// keepsReplies implements recorder.
func (d *Drill) keepsReplies() int {
	if d.expecting {
		return transport.ReplyLimit // all of it is checked
	}
	return transport.Kept
}

// keepReply keeps a reply's bytes and timing once each; the lock is held.
func (d *Drill) keepReply(v *record.Invocation, r *transport.Reply, key uint64) {
	if r.Status == 0 {
		return
	}
	n, ok := d.replies[key]
	if !ok && d.kept < quota {
		n = d.keep(r.Text(), &d.kept, quota)
		d.replies[key] = n
	}
	v.Reply = n
	if r.Timing == "" {
		return
	}
	if n, ok = d.timings[r.Timing]; !ok && d.kept < quota {
		n = d.keep([]byte(r.Timing), &d.kept, quota)
		d.timings[r.Timing] = n
	}
	v.Timing = n
}

func (d *Drill) lastDue() (last clock.Time) {
	for i := range d.rec.Arrivals {
		if d.rec.Arrivals[i].Offered() {
			last = max(last, d.rec.Arrivals[i].Due)
		}
	}
	return last
}

// eventTaken records an event that got its number.
func (d *Drill) eventTaken(f *engine.Effect) {
	a, info := d.taken.arrival, d.taken.info
	switch f.Origin {
	case engine.FromDeadLetter:
		a, info = d.rec.Arrivals[f.From], eventInfo{feed: -1, caller: -1, steps: d.events[f.From].steps,
			last: d.events[f.From].last, open: int32(len(d.p.Sources[f.Source].Wires))}
		a.Due, a.From, a.Source, a.Origin, a.Fault = f.At, f.From, f.Source, f.Origin, 0
	case engine.FromReply:
		next := d.nextChained()
		a, info = next.arrival, next.info
		// several replies may be alike, their events are not the same one
		a.Due, a.From, a.Origin, a.Round = f.At, f.From, f.Origin, int32(f.Event)
		info.steps = d.events[f.From].steps + 1
	}
	a.Arrived = f.At
	if u := d.uses[a.Payload]; u != nil {
		u.events++
	}
	if info.caller >= 0 && d.payloads[a.Payload].Async() { // the caller has its response: 202
		d.answered(d.feeds[info.feed], info.caller, f.At)
		info.caller = -1
	}
	d.rec.Arrivals = add(d.rec.Arrivals, a)
	d.events = add(d.events, info)
}

// dispatched implements recorder.
func (d *Drill) dispatched(f *engine.Effect, s *slot, j *job) {
	ids := d.fx.Events[f.First : f.First+f.N]
	for _, id := range ids {
		j.lose = j.lose || d.events[id].lose
	}
	if s.in.fn.Spans {
		d.traces.sent(ids[0], f)
	}
	if len(ids) == 1 {
		n := d.rec.Arrivals[ids[0]].Payload
		j.payload, j.expect = d.payloads[n], d.expects[n]
	}
}

// attemptEnded implements recorder.
func (d *Drill) attemptEnded(f *engine.Effect) {
	d.rec.Attempts = add(d.rec.Attempts, record.Attempt{Event: f.Event, Invocation: f.Invocation, Source: f.Source,
		Wire: f.Wire, N: f.Attempt, Result: f.Result})
	e := &d.events[f.Event]
	e.last = attempt{f.Attempt, f.Status, f.Result}
	e.lose = e.lose && f.Result != engine.AckLost
	d.cutOff(f)
}

// deliveryEnded implements recorder.
func (d *Drill) deliveryEnded(f *engine.Effect) {
	d.rec.Deliveries = add(d.rec.Deliveries, record.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At,
		Source: f.Source, Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
	if f.Outcome == engine.Unmatched && !d.explained[f.Source] {
		d.explained[f.Source] = true
		d.explainMiss(f)
	}
	d.answer(f)
}

// leaseExtended implements recorder.
func (d *Drill) leaseExtended(source int32) { d.extended[source]++ }

// replied implements recorder.
func (d *Drill) replied(s *slot, j *job, r *transport.Reply, key uint64, why string) {
	if s.carries(j) {
		if why != "" {
			s.cur.Unexpected = true
			if d.unexpected++; d.unexpected == 1 {
				p := &d.rec.Payloads[d.rec.Arrivals[j.event].Payload]
				d.notes = append(d.notes, fmt.Sprintf("the first unexpected reply was to %s#%d: %s", p.Set, p.N, why))
			}
		}
		d.keepReply(&s.cur, r, key)
	}
	if r.RetryAfter > 0 && (r.Status == 429 || r.Status == 503) { // its caller sends again when it is told to
		d.events[j.event].pause = min(r.RetryAfter, plan.MostPause)
	}
}

// settled implements recorder.
func (d *Drill) settled(s *slot) { d.rec.Invocations = add(d.rec.Invocations, s.cur) }

// doubt is a stretch of time in which requests of a slot may have got the replies to others.
type doubt struct{ from, before clock.Time }

// doubted implements recorder: the replies had been taken for good ones.
func (d *Drill) doubted(s *slot, before clock.Time) {
	of := [2]int32{s.in.id, s.number}
	d.doubts[of] = append(d.doubts[of], doubt{s.quiet, before})
}

// unexpect marks the invocations in doubt as unexpected, once the run is over. Snapshots of before keep theirs.
func (d *Drill) unexpect() {
	if len(d.doubts) == 0 {
		return
	}
	d.rec.Invocations = slices.Clone(d.rec.Invocations)
	for i := range d.rec.Invocations {
		v := &d.rec.Invocations[i]
		all := d.doubts[[2]int32{v.Instance, v.Slot}]
		k, _ := slices.BinarySearchFunc(all, v.Sent+1, func(x doubt, at clock.Time) int {
			return cmp.Compare(x.before, at)
		})
		if k < len(all) && v.Sent >= all[k].from && v.Result == engine.OK && !v.Unexpected {
			v.Unexpected = true
			if d.rec.Doubt = record.OnlyDoubt; d.unexpected > 0 {
				d.rec.Doubt = record.AlsoDoubt
			}
		}
	}
}

// failed implements recorder: each way to fail is noted once.
func (d *Drill) failed(fn int32) {
	text := d.fns[fn].trouble.Text
	key := fmt.Sprint(fn, text)
	if d.failures[key] == nil {
		d.failures[key] = &failure{text: d.p.Functions[fn].Name + " " + text}
	}
	d.failures[key].times++
}

// changed implements recorder.
func (d *Drill) changed(fn int, text string) {
	d.rec.Changes = append(d.rec.Changes, record.Change{At: d.now(), Function: int32(fn), Text: text})
}

// stepped implements recorder.
func (d *Drill) stepped(now clock.Time) {
	d.level(now, false)
	d.release()
}

// explainMiss notes why the first unmatched event of a source was unmatched.
func (d *Drill) explainMiss(f *engine.Effect) {
	p := d.payloads[d.rec.Arrivals[f.Event].Payload]
	if why := d.p.NearestMiss(int(f.Source), p); why != "" {
		d.notes = append(d.notes, fmt.Sprintf("%s: unmatched: %s: %s", d.p.Sources[f.Source].Name,
			payload.Short(p.Label(), 100), why))
	}
}

// answer answers the caller of an event once all its deliveries have ended.
func (d *Drill) answer(f *engine.Effect) {
	e := &d.events[f.Event]
	if f.Outcome == engine.Rejected {
		e.pause = max(e.pause, plan.RejectedPause)
	}
	switch f.Outcome {
	case engine.Done:
	case engine.Abandoned:
		e.done = nil // it has none
	default:
		e.failed = true
	}
	if e.open--; e.open > 0 {
		return
	}
	if e.done != nil {
		e.done(e.failed)
	}
	if e.feed >= 0 && e.caller >= 0 {
		d.answered(d.feeds[e.feed], e.caller, f.At.Add(e.pause))
	}
	if n := d.rec.Arrivals[f.Event].Payload; int(n) >= d.fixed {
		d.done = append(d.done, n)
	}
}

// level records the state of functions that changed, at most every levelEvery.
func (d *Drill) level(now clock.Time, last bool) {
	if !last && now < d.levelsAt.Add(levelEvery) && d.levelsAt > 0 {
		d.levelsDue = true
		return
	}
	d.levelsAt, d.levelsDue = now, false
	for i := range d.levels {
		l := d.eng.Stats(i)
		was := d.levels[i]
		is := record.Level{At: was.At, Function: int32(i), Waiting: int32(l.Waiting), InFlight: int32(l.InFlight),
			Starting: int32(l.Starting), Ready: int32(l.Ready)}
		if is != was {
			is.At = now
			d.levels[i] = is
			d.rec.Levels = append(d.rec.Levels, is)
		}
	}
}

// failuresInOrder returns the ways to fail, sorted, with how often each was seen.
func (d *Drill) failuresInOrder() (out []string) {
	for _, f := range d.failures {
		text := f.text
		if f.times > 1 {
			text = fmt.Sprintf("%s (%d times)", text, f.times)
		}
		out = append(out, text)
	}
	slices.Sort(out)
	return out
}

// payloadOf implements recorder.
func (d *Drill) payloadOf(event int64) (p *payload.Payload, round int32) {
	a := &d.rec.Arrivals[event]
	return d.payloads[a.Payload], a.Round
}

// deadLetter implements recorder.
func (d *Drill) deadLetter(event int64) (of string, last attempt, ok bool) {
	a := &d.rec.Arrivals[event]
	if a.Origin != engine.FromDeadLetter {
		return "", attempt{}, false
	}
	return d.p.Sources[d.rec.Arrivals[a.From].Source].Name, d.events[event].last, true
}

// chainSteps implements recorder.
func (d *Drill) chainSteps(event int64) int { return int(d.events[event].steps) }

var chainSeed = maphash.MakeSeed()

// chainedPayload implements recorder: replies that are alike have one number.
func (d *Drill) chainedPayload(p *payload.Payload) (kept *payload.Payload, number int32) {
	plain := *p
	if p.Event != nil { // the same but for what is new with each
		e := *p.Event
		e.ID, e.Time = "", time.Time{}
		plain.Event = &e
	}
	var h maphash.Hash
	h.SetSeed(chainSeed)
	if plain.Event != nil {
		_, _ = h.Write(plain.Event.AppendJSON(nil)) // it never fails
	} else {
		_, _ = h.WriteString(plain.Request.Method + " " + plain.Request.Target + "\n")
		_, _ = h.Write(plain.Request.Body)
	}
	key := h.Sum64()
	n, known := d.byReply[key]
	if !known {
		n = int32(len(d.payloads))
		d.byReply[key] = n
		own := *p
		d.uses[n] = &reply{key: key}
		d.payloads, d.expects = append(d.payloads, &own), append(d.expects, nil)
		d.rec.Payloads = append(d.rec.Payloads, record.Payload{Set: "replies", N: len(d.payloads) - d.fixed,
			Label: own.Label(), Blob: d.keep(EventText(&own), &d.kept, quota)})
	}
	return d.payloads[n], n
}

// reply counts the events of a payload that was made of a reply.
type reply struct {
	key    uint64
	events int
}

// release frees what replies were sent on as, once no event of it is open: a run may have any
// number of them.
func (d *Drill) release() {
	for _, n := range d.done {
		u := d.uses[n]
		if u == nil {
			continue
		}
		if u.events--; u.events > 0 {
			continue
		}
		delete(d.uses, n)
		delete(d.byReply, u.key)
		d.payloads[n] = &payload.Payload{}
	}
	d.done = d.done[:0]
}

// add appends to what grows with every event. It makes room by half of what there is: append itself makes a quarter,
// and copies twice as often.
func add[T any](to []T, x T) []T {
	if len(to) == cap(to) {
		to = slices.Grow(to, max(len(to)/2, 1<<10))
	}
	return append(to, x)
}
