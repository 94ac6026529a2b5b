package runner

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
)

const (
	// mostAtOnce is how many events are handed in at most before others have their turn: more
	// than this machine can make fall behind, and the run can still be ended.
	mostAtOnce = 1000
)

// Drill runs a drill and records all of it.
type Drill struct {
	*Runner
	drill *plan.Drill

	feeds     []*feed
	cold      []coldFeed    // of a drill of cold starts
	sets      map[int]int32 // the first payloads of the sets that were taken up
	opens     clock.Time    // when events began to fall due; 0 where nothing had to be waited for
	changes   int           // of the drill's changes that were carried out
	noMore    bool
	published int           // events that functions published
	live      time.Duration // for how long events come from brokers
	taken     arrivalInfo   // the arrival that is being handed in

	ledger
}

// feed sends the payloads of a set to a source, at the times of its schedule.
type feed struct {
	plan.Offer
	first int32 // payload of the schedule in rec.Payloads
	taken int   // events so far
}

// New prepares a run of a drill.
func New(p *plan.Project, drill *plan.Drill, c Config) *Drill {
	if drill.Concurrency > 0 && drill.Concurrency != p.Concurrency {
		limited := *p
		limited.Concurrency = drill.Concurrency
		p = &limited
	}
	d := &Drill{Runner: newRunner(c, p, drill.Limits, drill.Settle, drill.Seed), drill: drill, sets: map[int]int32{}}
	d.recorder = d
	d.opened = drill.BeginEmpty || drill.Cold != nil || !slices.ContainsFunc(drill.Limits,
		func(l plan.Limits) bool { return l.KeepWarm > 0 })
	d.ledger = newRecord(p, drill, c)
	d.machine = &machineMeter{loads: &d.rec.Loads}
	d.openSpans(c.Hosts)
	if drill.Cold != nil {
		d.awaited, d.rec.ColdStarts = true, drill.Cold.N
		d.coldFeeds()
	} else {
		for i := range drill.Feeds {
			d.feed(i)
		}
	}
	d.fixed = len(d.payloads)
	if c.ReadObject != nil {
		d.keepObjects(c.ReadObject)
	}
	return d
}

// setFirst returns the number of a set's first payload, taken up once.
func (d *Drill) setFirst(set int) int32 {
	first, ok := d.sets[set]
	if !ok {
		first = d.payloadsOf(&d.p.Sets[set])
		d.sets[set] = first
	}
	return first
}

// feed prepares a feed of the drill.
func (d *Drill) feed(n int) {
	f := &d.drill.Feeds[n]
	r := &d.rec.Sources[f.Source]
	r.Closed = r.Closed || f.Closed()
	if f.Clock != nil && f.Clock.Speed > 1 {
		r.Speed = f.Clock.Speed
	}
	if f.Live > 0 {
		d.live = max(d.live, f.Live)
		d.notes = append(d.notes, fmt.Sprintf("events of %s came from the broker %s while the drill ran: it cannot be "+
			"carried out again with the same events, other than by a replay of this run", r.Name,
			d.p.Sources[f.Source].Fed().Broker))
		return
	}
	offers, notes := d.p.Offers(d.drill, n, d.drill.Seed)
	d.notes = append(d.notes, notes...)
	for i := range offers {
		x := &feed{Offer: offers[i]}
		if x.Set >= 0 {
			x.first = d.setFirst(x.Set) + int32(x.First)
		} else {
			x.first = d.payloadsOf(x.Payloads(d.p))
		}
		d.feeds = append(d.feeds, x)
	}
}

// Run carries the drill out. It returns when the drill is over and every process is gone, or
// when the context ends: then the run is not finished.
func (d *Drill) Run(ctx context.Context) {
	busy := startBusy()
	defer d.checkSelf(ctx)()
	defer d.prepare()()
	d.standReady(ctx) // started ahead, and before the time begins
	stopped := d.startClock()
	if d.cold != nil {
		go d.coldStarts(ctx)
	}
	finished := d.finish(ctx, stopped)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.unexpect()
	d.rec.Finished = finished
	d.rec.Length = d.now()
	d.rec.Busy, d.rec.Stolen = busy.share()
	d.rec.LastDue = d.lastDue()
	d.level(d.rec.Length, true)
	for s, n := range d.extended {
		if n > 0 {
			d.notes = append(d.notes, fmt.Sprintf("%s: a lease was extended %d times, since the function was still "+
				"working",
				d.p.Sources[s].Name, n))
		}
	}
	for s, n := range d.itself {
		if n > 0 {
			d.notes = append(d.notes, fmt.Sprintf("%s: %d of the requests were OPTIONS, which the source answers "+
				"itself, as at the front; they are not events", d.p.Sources[s].Name, n))
		}
	}
	d.notes = append(d.notes, d.failuresInOrder()...)
}

// Snapshot returns what has been recorded so far. Its slices are the caller's to
// read and not to change.
func (d *Drill) Snapshot() *record.Run {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := d.rec
	r.Instances, r.Notes, r.Concurrency = slices.Clone(d.records), slices.Clone(d.notes), d.rec.Concurrency
	for _, in := range d.alive {
		for s := range in.slots {
			if in.slots[s].open {
				r.Open = append(r.Open, in.slots[s].cur)
			}
		}
	}
	if r.Length == 0 && !d.began.IsZero() {
		r.Length = d.now()
	}
	return &r
}

// LastLine returns the last line that a function wrote during an invocation of this run, ""
// for none.
func (d *Drill) LastLine(v *record.Invocation) string {
	d.mu.Lock()
	began, log := d.began, d.log
	name := fmt.Sprintf("%s-%d", d.fns[v.Function].Name, d.records[v.Instance].Number)
	d.mu.Unlock()
	if log == nil {
		return ""
	}
	lines := log.Between(name, began.Add(time.Duration(v.Assigned)), began.Add(time.Duration(v.Done)).Add(lineLag),
		mostLines)
	if len(lines) == 0 {
		return ""
	}
	return lines[len(lines)-1].Text
}

const (
	lineLag   = 20 * time.Millisecond // a line may be read so long after the reply
	mostLines = 1000
)

// handIn implements recorder.
func (d *Drill) handIn(now clock.Time, self *slot) *job {
	d.open(now)
	d.plannedChanges(now)
	return d.pump(now, self)
}

// open lets events fall due once the instances of keep_warm are ready, or failed to start; the lock
// is held.
func (d *Drill) open(now clock.Time) {
	if d.opened || d.over || d.closing {
		return
	}
	for i := range d.fns {
		if d.eng.Stats(i).Ready < d.eng.Limits(i).KeepWarm && !d.fns[i].unready {
			return
		}
	}
	for i := range d.fns {
		if ready, wanted := d.eng.Stats(i).Ready, d.eng.Limits(i).KeepWarm; ready < wanted {
			d.notes = append(d.notes,
				fmt.Sprintf("%s: the drill began with %d of the %d instances that keep_warm asks for, since one "+
					"did not start, or ended",
					d.fns[i].Name, ready, wanted))
		}
	}
	d.opened, d.opens = true, now
	d.rec.Begins = now
}

// peek returns a feed's next arrival without taking it, in the run's time.
func (d *Drill) peek(f *feed, now clock.Time) (arrival.Arrival, arrival.State) {
	if !d.opened {
		return arrival.Arrival{Due: clock.Never}, arrival.Waiting
	}
	a, state := f.Peek(now - d.opens)
	if state != arrival.Over && a.Due != clock.Never {
		a.Due += d.opens
	}
	return a, state
}

// answered lets a caller of a feed send again from a time of the run on.
func (d *Drill) answered(f *feed, caller int32, at clock.Time) { f.Answered(int(caller), at-d.opens) }

// pump hands in the events that have fallen due.
func (d *Drill) pump(now clock.Time, self *slot) (own *job) {
	if d.over || d.closing || d.cold != nil {
		return nil
	}
	waiting := false
	for range mostAtOnce {
		var next *feed
		var first arrival.Arrival
		number := int32(0)
		waiting = d.live > 0 && (!d.opened || now < d.opens.Add(d.live))
		for i, f := range d.feeds {
			a, state := d.peek(f, now)
			waiting = waiting || state != arrival.Over
			if state == arrival.Due && (next == nil || a.Due < first.Due) {
				next, first, number = f, a, int32(i)
			}
		}
		if next == nil || first.Due > now {
			break
		}
		next.Take()
		fate := next.Faults.Of(d.drill.Seed, next.Number, next.taken)
		if next.Again != nil {
			m := &next.Again[first.Payload]
			first.Payload, first.Round, fate = m.Payload, m.Round, m.Fate
		}
		next.taken++
		if at := next.first + int32(first.Payload); d.p.Itself(next.Source, d.payloads[at]) {
			d.itself[next.Source]++
			if first.Caller >= 0 {
				// it never asks without end at one moment
				d.answered(next, int32(first.Caller), now.Add(time.Millisecond))
			}
			continue
		}
		d.taken = arrivalInfo{
			record.Arrival{Due: first.Due, From: -1, Payload: next.first + int32(first.Payload),
				Round: int32(first.Round), Source: int32(next.Source), Fault: fate.Kinds, Delay: fate.Delay},
			eventInfo{feed: number, caller: int32(first.Caller), lose: fate.AckLost}, nil,
		}
		in := d.arrived(&d.taken)
		in.Delay = fate.Delay
		original := int64(len(d.rec.Arrivals))
		if job := d.handle(now, in, self); job != nil {
			own = job
		}
		for _, later := range fate.Copies {
			again := d.rec.Arrivals[original]
			again.From, again.Origin, again.Due, again.Delay = original, engine.FromFault,
				first.Due.Add(fate.Delay+later), fate.Delay+later
			d.taken = arrivalInfo{again, eventInfo{feed: -1, caller: -1}, nil}
			in := d.arrived(&d.taken)
			in.Delay = fate.Delay + later
			if job := d.handle(now, in, self); job != nil {
				own = job
			}
		}
	}
	if !waiting && !d.noMore {
		d.noMore = true
		if job := d.handle(now, engine.Input{Kind: engine.NoMore}, self); job != nil {
			own = job
		}
	}
	return own
}

// arrived returns the input of an event that comes, and notes how many deliveries
// it has.
func (d *Drill) arrived(a *arrivalInfo) engine.Input {
	source, p := a.arrival.Source, d.payloads[a.arrival.Payload]
	in := engine.Input{Kind: engine.Arrived, Source: source, Routes: d.divide(int(source), d.routesOf(source,
		a.arrival.Payload), p, a.arrival.Payload, int(a.arrival.Round)),
		Key: d.sorter.Key(int(source), p), Delay: d.p.Sources[source].DelayOf(p), Async: p.Async()}
	a.info.open = deliveries(in.Routes)
	return in
}

// divide returns the routes that remain where wires divide what they take: by the id of an event, or by the number of a
// request, which has none.
func (d *Runner) divide(source int, routes uint64, p *payload.Payload, number int32, round int) uint64 {
	return d.p.DividePayload(source, routes, d.seed, p, number, round)
}

// routesOf returns the wires that take a payload; it is the same each time.
func (d *Drill) routesOf(source, payload int32) uint64 {
	k := [2]int32{source, payload}
	routes, ok := d.routes[k]
	if !ok {
		routes = d.p.Routes(int(source), d.payloads[payload])
		d.routes[k] = routes
	}
	return routes
}

// nextDue implements recorder.
func (d *Drill) nextDue(now clock.Time) clock.Time {
	next := d.nextChange()
	if !d.over && !d.closing {
		for _, f := range d.feeds {
			if a, state := d.peek(f, now); state != arrival.Over {
				next = min(next, a.Due)
			}
		}
	}
	if d.live > 0 && d.opened && !d.noMore {
		next = min(next, d.opens.Add(d.live))
	}
	if d.levelsDue {
		next = min(next, d.levelsAt.Add(levelEvery))
	}
	return next
}

// mayPark implements recorder.
func (d *Drill) mayPark(int32) bool { return true }

// nextChange returns when the next planned change is due, or never.
func (d *Drill) nextChange() clock.Time {
	if d.changes < len(d.drill.Changes) && !d.over && d.opened {
		return d.opens.Add(d.drill.Changes[d.changes].At)
	}
	return clock.Never
}

// plannedChanges carries out what the drill changes by now; the lock is held.
func (d *Drill) plannedChanges(now clock.Time) {
	for d.changes < len(d.drill.Changes) {
		c := &d.drill.Changes[d.changes]
		if !d.opened || d.opens.Add(c.At) > now || d.over {
			return
		}
		d.changes++ // first: carrying it out comes by here again
		switch {
		case c.Function < 0:
			if c.Concurrency != d.all {
				d.setAll(c.Concurrency)
			}
		case c.Replace:
			d.renew(c.Function)
		default:
			if before := d.eng.Limits(c.Function); before != c.Limits {
				d.change(c.Function, c.Limits.Difference(before), engine.Input{Kind: engine.SetLimits,
					Function: int32(c.Function), Limits: c.Limits})
			}
		}
	}
}
