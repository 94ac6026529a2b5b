// Package runner runs a drill, or a standing desk: the engine fed from real
// processes, real requests and real time.
//
// New prepares a drill, Run carries it out and returns when it is over, Snapshot
// gives what has been recorded so far, at any time. NewStanding prepares a session,
// whose Run goes on until it is ended; Fire hands one event in, and what becomes
// of it is found in its Track. The engine stands behind
// one lock. Whoever has news for it (a slot with an answer, a process that
// ended, the clock) takes the lock, hands the input in and carries the effects
// out; a slot whose answer leads to its own next request goes on with that
// without waking anybody.
package runner

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math"
	"math/bits"
	"slices"
	"sync"
	"time"

	"nightdrill/internal/core/arrival"
	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/event"
	"nightdrill/internal/core/fault"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/logs"
	"nightdrill/internal/live/proc"
	"nightdrill/internal/live/transport"
)

const (
	// grace is the time between SIGTERM and SIGKILL.
	grace = 2 * time.Second
	// stopTimeout bounds a function's own stop command.
	stopTimeout = 10 * time.Second
	// troubleLines is how much of the output is kept with a trouble.
	troubleLines = 40
	// retryAfter is what a rejected caller is told to wait.
	retryAfter = time.Second
	// mostRetryAfter bounds what a function may tell its callers to wait.
	mostRetryAfter = time.Minute
	// seatsReady is for how many starts of a bounded function all is made ready
	// beforehand.
	seatsReady = 4
	// mostAtOnce is how many events are handed in at most before others have their turn: more
	// than this machine can make fall behind, and the run can still be ended.
	mostAtOnce = 1000
	// levelEvery bounds how often the state of functions is recorded.
	levelEvery = 10 * time.Millisecond
)

// Driver is one run.
type Driver struct {
	p     *plan.Project
	drill *plan.Drill
	trace uint64 // first half of trace IDs

	tag               string           // tells this run's instances from those of others
	log               *logs.Log        // of what the functions write; nil for none
	traces            map[int64]*Trace // of a standing desk: the events that are in progress; nil in a drill
	firing            *Trace           // the one that is being handed in
	endedEvents       []int64          // those that ended in this step
	unexplainedStarts []int            // of each function: instances that were never ready, of which it is not known yet why
	pendingCause      []unexplained    // attempts that such instances cost

	mu         sync.Mutex
	fns        []*plan.Function // as they are to be started now
	versions   []string         // of their code, in words
	troubles   []Trouble        // the last of each function
	eng        *engine.Engine
	fx         engine.Effects
	journal    *bufio.Writer // of inputs and effects, where one is kept
	began      time.Time
	wake       clock.Time // when the engine wants to be called
	asleep     clock.Time // until when the clock sleeps
	kick       *alarm
	rec        measure.Run
	payloads   []*payload.Payload // those of rec.Payloads
	expects    []*payload.Expect  // of the answers to them
	expecting  bool               // whether there is any of those
	unexpected int
	routes     map[[2]int32]uint64
	events     []eventInfo // beside rec.Arrivals
	feeds      []*feed
	sorter     *plan.Sorter
	taken      arrivalInfo      // the arrival that is being handed in
	onward     []onwardInfo     // the replies that are being sent on, in their order
	sentOn     [][]int          // replies that were, by function and place in its Then
	fixed      int              // payloads that were there from the start
	uses       map[int32]*reply // of those that were made of replies since
	chained    map[uint64]int32 // numbers of the payloads that were made of replies
	done       []int32          // payloads of which an event has ended in this step
	missed     []bool           // of each source: an event that no wire took was explained
	itself     []int            // requests of each source that it answered itself
	longest    bool             // a chain was too long
	extended   []int            // leases of each source
	objects    Objects          // nil where there is not an object store
	instances  []*instance      // by the engine's number
	alive      []*instance      // those whose process is not gone
	spares     []spares         // of each function
	sockets    *proc.Sockets    // nil until one is needed
	socketed   int              // sockets so far
	all        int              // the limit for all functions together
	changed    int              // of the drill's changes that were carried out
	opened     bool             // events fall due: the instances that are kept warm are ready
	opens      clock.Time       // since when; 0 where nothing had to be waited for
	unready    []bool           // of each function: an instance that is kept warm did not start
	cold       []coldFeed       // of a drill of cold starts
	sets       map[int]int32    // the first payloads of the sets that were taken up
	news       chan struct{}    // closed when something has happened,
	awaited    bool             // where anybody awaits that
	closing    bool             // the run is over
	life       context.Context  // of the run
	endLife    context.CancelFunc
	levels     []measure.Level
	levelsAt   clock.Time
	levelsDue  bool
	noMore     bool
	over       bool
	failures   map[string]*failure
	replies    map[uint64]int32 // numbers of the replies that were kept, by their keys
	timings    map[string]int32
	kept       int            // bytes of replies
	given      int            // bytes of events
	running    sync.WaitGroup // processes
	ended      chan struct{}  // closed when the engine said Over
}

type feed struct {
	*arrival.Schedule
	source int32
	first  int32 // payload of the set in rec.Payloads
	faults fault.Rules
	again  []plan.Moment // of a run that is replayed
	number uint64        // among the drill's feeds, for its faults
	taken  int           // events so far
}

// eventInfo is what the driver knows of an event beside its arrival.
type eventInfo struct {
	feed   int32 // -1 for a dead letter
	caller int32
	open   int32 // deliveries without an outcome
	pause  time.Duration
	steps  int32 // of the chain that led to it
	lose   bool  // the acknowledgement of its first good attempt is lost
	last   attempt
}

// attempt is how the last attempt of an event ended: what a dead letter says.
type attempt struct {
	n, status int32
	result    engine.Result
}

type arrivalInfo struct {
	arrival measure.Arrival
	info    eventInfo
	payload *payload.Payload // of a reply that is sent on
}

type failure struct {
	text  string
	times int
}

// New prepares a run of a drill.
func New(p *plan.Project, d *plan.Drill, id string) *Driver {
	r := &Driver{p: p, drill: d, failures: map[string]*failure{}, routes: map[[2]int32]uint64{}, replies: map[uint64]int32{}, timings: map[string]int32{}, ended: make(chan struct{}), asleep: clock.Never, kick: newAlarm()}
	if r.all = p.Concurrency; d.Concurrency > 0 && d.Concurrency != r.all {
		limited := *p
		limited.Concurrency = d.Concurrency
		p, r.p, r.all = &limited, &limited, d.Concurrency
	}
	r.eng = engine.New(p, d.Limits, d.Settle)
	r.spares, r.sets, r.news = make([]spares, len(p.Functions)), map[int]int32{}, make(chan struct{})
	r.life, r.endLife = context.WithCancel(context.Background())
	r.fns, r.versions, r.troubles = make([]*plan.Function, len(p.Functions)), make([]string, len(p.Functions)), make([]Trouble, len(p.Functions))
	r.unexplainedStarts, r.unready = make([]int, len(p.Functions)), make([]bool, len(p.Functions))
	r.opened = d.BeginEmpty || d.Cold != nil || !slices.ContainsFunc(d.Limits,
		func(l plan.Limits) bool { return l.KeepWarm > 0 })
	for i := range p.Functions {
		r.fns[i] = &p.Functions[i]
		r.sentOn = append(r.sentOn, make([]int, len(p.Functions[i].Then)))
	}
	r.trace = d.Seed ^ 0x9e3779b97f4a7c15
	for _, c := range id {
		r.trace = r.trace*31 + uint64(c)
	}
	r.tag = fmt.Sprintf("%06x", r.trace&0xffffff)
	r.rec = measure.Run{Project: p.Name, Drill: d.Name, ID: id, Seed: d.Seed, Concurrency: r.all, Busy: math.NaN(), Idempotence: d.Idempotence, Rates: p.Rates}
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
		r.rec.Functions = append(r.rec.Functions, measure.Function{Name: f.Name, Max: l.Max, PerInstance: l.PerInstance, KeepWarm: l.KeepWarm, Guaranteed: l.Guaranteed,
			Attached: f.Transport == plan.Attach, OneShot: f.Transport == plan.OneShot, Way: way, Memory: f.Memory, CPU: f.CPU,
			Enforced: enforced(f), Meter: meterOf(f)})
	}
	for i := range p.Sources {
		s := measure.Source{Name: p.Sources[i].Name, Kind: p.Sources[i].Kind.String()}
		for w := range p.Sources[i].Wires {
			s.To = append(s.To, p.Sources[i].Wires[w].To)
			if p.Sources[i].Kind == plan.HTTP {
				s.Routes = append(s.Routes, p.Sources[i].Wires[w].When.String())
			}
		}
		r.rec.Sources = append(r.rec.Sources, s)
	}
	for _, b := range d.Budgets {
		r.rec.Budgets = append(r.rec.Budgets, b.Text)
	}
	r.sorter, r.extended, r.itself, r.chained = p.NewSorter(), make([]int, len(p.Sources)), make([]int, len(p.Sources)), map[uint64]int32{}
	r.uses, r.missed = map[int32]*reply{}, make([]bool, len(p.Sources))
	if d.Cold != nil {
		r.awaited, r.rec.ColdStarts = true, d.Cold.N
		r.coldFeeds()
	} else {
		for i := range d.Feeds {
			r.feed(&d.Feeds[i], i)
		}
	}
	r.fixed = len(r.payloads)
	r.levels = make([]measure.Level, len(p.Functions))
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

// setFirst returns the number of a set's first payload, taken up once.
func (d *Driver) setFirst(set int) int32 {
	first, ok := d.sets[set]
	if !ok {
		first = d.payloadsOf(&d.p.Sets[set])
		d.sets[set] = first
	}
	return first
}

// feed prepares a feed of the drill.
func (d *Driver) feed(f *plan.Feed, n int) {
	x := &feed{source: int32(f.Source), faults: f.Faults, number: uint64(n)}
	d.feeds = append(d.feeds, x)
	src := &d.p.Sources[f.Source]
	if f.Clock != nil {
		var set *payload.Set
		if f.Set >= 0 {
			set = &d.p.Sets[f.Set]
		}
		if f.Clock.Speed > 1 {
			d.rec.Sources[f.Source].Speed = f.Clock.Speed
		}
		events, after, notes := plan.TimesOf(src, f.Clock, set)
		d.rec.Notes = append(d.rec.Notes, notes...)
		x.first = d.payloadsOf(&payload.Set{Name: src.Name, Payloads: events})
		start := clock.Time(0)
		if len(after) > 0 {
			start = clock.Time(float64(after[0]) / f.Clock.Speed)
		}
		x.Schedule = arrival.New([]arrival.Phase{{Pattern: arrival.Recorded, Speed: f.Clock.Speed}}, after, max(len(events), 1), start, d.drill.Seed, uint64(n))
		return
	}
	set := &d.p.Sets[f.Set]
	if len(f.Moments) > 0 {
		times := make([]time.Duration, len(f.Moments))
		for i := range f.Moments {
			times[i] = f.Moments[i].Due
		}
		x.again, x.first = f.Moments, d.setFirst(f.Set)
		x.Schedule = arrival.New([]arrival.Phase{{Pattern: arrival.Recorded, Speed: 1}}, times, len(times), clock.Time(slices.Min(times)), d.drill.Seed, uint64(n))
		return
	}
	for _, ph := range f.Phases {
		d.rec.Sources[f.Source].Closed = d.rec.Sources[f.Source].Closed || ph.Pattern == arrival.Callers
	}
	times, _, _ := set.Offsets()
	size := len(set.Payloads)
	x.first = d.setFirst(f.Set)
	if f.Retained > 0 {
		// what was in the stream before the function came is there at once, or not read
		if src.FromNew {
			d.rec.Notes = append(d.rec.Notes, fmt.Sprintf("%s: %d records that were there before the drill are not read, as it begins with new ones", src.Name, f.Retained))
		} else {
			d.feeds = append(d.feeds, &feed{Schedule: arrival.New([]arrival.Phase{{Pattern: arrival.Once}}, nil, f.Retained, 0, d.drill.Seed, uint64(n)),
				source: x.source, first: x.first, faults: f.Faults, number: uint64(n) + 1<<16})
		}
		if size > f.Retained {
			x.first, size = x.first+int32(f.Retained), size-f.Retained
			times = times[min(f.Retained, len(times)):]
		}
	}
	x.Schedule = arrival.New(f.Phases, times, size, 0, d.drill.Seed, uint64(n))
}

// payloadsOf takes the payloads of a set up, and returns the number of the first.
func (d *Driver) payloadsOf(set *payload.Set) int32 {
	first := int32(len(d.payloads))
	for n := range set.Payloads {
		d.payloads, d.expects = append(d.payloads, &set.Payloads[n]), append(d.expects, set.ExpectOf(n))
		d.expecting = d.expecting || set.ExpectOf(n) != nil
		d.rec.Payloads = append(d.rec.Payloads, measure.Payload{Set: set.Name, N: n + 1, Label: set.Payloads[n].Label(), Blob: d.keep(EventText(&set.Payloads[n]), &d.given, payloadQuota)})
	}
	return first
}

// Journal makes the run write its inputs and effects to w, for engine.Reenact. It is called before
// Run.
func (d *Driver) Journal(w io.Writer) {
	d.journal = bufio.NewWriterSize(w, 1<<20)
	_, _ = d.journal.Write(engine.JournalSetup(d.p, d.drill.Limits, d.drill.Settle)) // Flush tells
}

// Code is what is known of a function's code.
type Code struct {
	Version  string
	Prepared time.Duration // what its preparation took, or 0
	Size     int64         // bytes of its package, or 0
}

// Code sets which code a function has. It is called before Run.
func (d *Driver) Code(fn int, c Code) {
	d.versions[fn] = c.Version
	f := &d.rec.Functions[fn]
	f.Version, f.Prepared, f.Size = c.Version, c.Prepared, c.Size
}

// Told keeps with the run what it was told to do, where it runs and on what code. It
// is called before Run.
func (d *Driver) Told(plan []byte, machine, commit string) {
	d.rec.Plan, d.rec.Machine, d.rec.Commit = plan, machine, commit
}

// A run keeps at most so many bytes of replies, and of the events that it was given.
const (
	quota        = 64 << 20
	payloadQuota = 256 << 20
)

// keep keeps bytes, and gives their number, or 0 when the quota is used up.
func (d *Driver) keep(text []byte, used *int, most int) int32 {
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

// KeepObjects keeps the bytes of the objects that events of storage sources report;
// read returns them, or nil. It is called before Run.
func (d *Driver) KeepObjects(read func(bucket, key string) []byte) {
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

// keepReply keeps a reply's bytes and timing once each; the lock is held.
func (d *Driver) keepReply(v *measure.Invocation, r *transport.Reply, key uint64) {
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

// now returns the time of the run.
func (d *Driver) now() clock.Time { return d.at(time.Now()) }

// At returns a moment as the run's time; the run has begun.
func (d *Driver) At(t time.Time) clock.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.at(t)
}

func (d *Driver) at(t time.Time) clock.Time { return clock.Time(t.Sub(d.began)) }

// Run carries the drill out. It returns when the drill is over and every
// process is gone, or when the context ends: then the run is not finished.
func (d *Driver) Run(ctx context.Context) {
	busy := startBusy()
	if d.traces == nil {
		defer d.checkSelf(ctx)()
	}
	d.mu.Lock()
	fns := slices.Clone(d.fns) // which [Driver.Renew] may replace from now on
	d.mu.Unlock()
	for _, f := range fns {
		if f.Transport == plan.Attach {
			continue
		}
		defer proc.Reserve(boundsOf(f), min(f.Limits.Instances(), seatsReady))()
	}
	d.mu.Lock()
	d.awaited = d.awaited || slices.ContainsFunc(d.fns, func(f *plan.Function) bool { return f.Parked > 0 })
	for i := range d.fns {
		d.park(int32(i))
	}
	d.mu.Unlock()
	if d.traces == nil {
		d.standReady(ctx) // started ahead, and before the time begins
	}
	d.mu.Lock()
	if d.began.IsZero() {
		d.began = time.Now()
	}
	d.mu.Unlock()
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		d.tick()
	}()
	go d.sample()
	d.step(engine.Input{}, nil)
	if d.cold != nil {
		go d.coldStarts(ctx)
	}
	finished := false
	select {
	case <-ctx.Done():
	case <-d.ended:
		finished = true
	}
	d.mu.Lock()
	d.closing = true
	d.mu.Unlock()
	d.endLife()
	d.step(engine.Input{Kind: engine.End}, nil)
	d.dismissAll()
	d.running.Wait()
	if d.sockets != nil {
		d.sockets.Close()
	}
	d.kick.close()
	<-stopped
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.journal != nil {
		if err := d.journal.Flush(); err != nil {
			d.rec.Notes = append(d.rec.Notes, "the journal could not be written: "+err.Error())
		}
	}
	d.rec.Finished = finished
	d.rec.Length = d.now()
	d.rec.Busy = busy.share()
	d.rec.LastDue = d.lastDue()
	d.level(d.rec.Length, true)
	for s, n := range d.extended {
		if n > 0 {
			d.rec.Notes = append(d.rec.Notes, fmt.Sprintf("%s: a lease was extended %d times, since the function was still working", d.p.Sources[s].Name, n))
		}
	}
	for s, n := range d.itself {
		if n > 0 {
			d.rec.Notes = append(d.rec.Notes, fmt.Sprintf("%s: %d of the requests were OPTIONS, which the source answers itself, as at the front; they are not events", d.p.Sources[s].Name, n))
		}
	}
	d.rec.Notes = append(d.rec.Notes, d.failuresInOrder()...)
}

func (d *Driver) lastDue() (last clock.Time) {
	for i := range d.rec.Arrivals {
		if d.rec.Arrivals[i].From < 0 {
			last = max(last, d.rec.Arrivals[i].Due)
		}
	}
	return last
}

// Snapshot returns what has been recorded so far. Its slices are the caller's to
// read and not to change.
func (d *Driver) Snapshot() *measure.Run {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := d.rec
	r.Instances = append([]measure.Instance(nil), d.rec.Instances...)
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
func (d *Driver) LastLine(v *measure.Invocation) string {
	d.mu.Lock()
	began, log := d.began, d.log
	name := fmt.Sprintf("%s-%d", d.fns[v.Function].Name, d.rec.Instances[v.Instance].Number)
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

// Looks returns the state of each function now.
func (d *Driver) Looks() []engine.Stats {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := make([]engine.Stats, len(d.p.Functions))
	for i := range out {
		out[i] = d.eng.Stats(i)
	}
	return out
}

// step hands an input to the engine and carries the effects out. When the
// effects hold a request for the slot that brought the input, it is returned
// for that slot to go on with.
func (d *Driver) step(in engine.Input, self *slot) *job {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.stepLocked(in, self)
}

// stepLocked is step for those who hold the lock. It reads the clock once: what
// falls due meanwhile is the next step's.
func (d *Driver) stepLocked(in engine.Input, self *slot) *job {
	now := d.now()
	own := d.handle(now, in, self)
	d.open(now)
	d.plannedChanges(now)
	if next := d.pump(now, self); next != nil {
		own = next
	}
	d.level(now, false)
	d.forget()
	d.release()
	d.signal()
	if wake := d.nextWake(now); wake < d.asleep {
		d.asleep = wake
		d.kick.ring()
	}
	return own
}

// open lets events fall due once the instances of keep_warm are ready, or failed to start; the lock
// is held.
func (d *Driver) open(now clock.Time) {
	if d.opened || d.over || d.closing {
		return
	}
	for i := range d.fns {
		if d.eng.Stats(i).Ready < d.eng.Limits(i).KeepWarm && !d.unready[i] {
			return
		}
	}
	for i := range d.fns {
		if ready, wanted := d.eng.Stats(i).Ready, d.eng.Limits(i).KeepWarm; ready < wanted {
			d.rec.Notes = append(d.rec.Notes,
				fmt.Sprintf("%s: the drill began with %d of the %d instances that keep_warm asks for, since one did not "+
					"start, or ended",
					d.fns[i].Name, ready, wanted))
		}
	}
	d.opened, d.opens = true, now
	d.rec.Begins = now
}

// peek returns a feed's next arrival without taking it, in the run's time.
func (d *Driver) peek(f *feed, now clock.Time) (arrival.Arrival, arrival.State) {
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
func (d *Driver) answered(f *feed, caller int32, at clock.Time) { f.Answered(int(caller), at-d.opens) }

// handle hands one input over; the lock is held.
func (d *Driver) handle(now clock.Time, in engine.Input, self *slot) (own *job) {
	d.fx.Reset()
	d.wake = d.eng.Handle(now, in, &d.fx)
	if d.journal != nil {
		_, _ = d.journal.Write(engine.AppendJournal(nil, now, in, &d.fx)) // Flush tells
	}
	for i := range d.fx.List {
		if job := d.carryOut(&d.fx.List[i], self); job != nil {
			own = job
		}
	}
	return own
}

// pump hands in the events that have fallen due.
func (d *Driver) pump(now clock.Time, self *slot) (own *job) {
	if d.over || d.closing || d.cold != nil {
		return nil
	}
	waiting := false
	for range mostAtOnce {
		var next *feed
		var first arrival.Arrival
		number := int32(0)
		waiting = false
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
		fate := next.faults.Of(d.drill.Seed, next.number, next.taken)
		if next.again != nil {
			m := &next.again[first.Payload]
			first.Payload, first.Round, fate = m.Payload, m.Round, m.Fate
		}
		next.taken++
		if at := next.first + int32(first.Payload); d.p.Itself(int(next.source), d.payloads[at]) {
			d.itself[next.source]++
			if first.Caller >= 0 {
				d.answered(next, int32(first.Caller), now.Add(time.Millisecond)) // it never asks without end at one moment
			}
			continue
		}
		d.taken = arrivalInfo{
			measure.Arrival{Due: first.Due, From: -1, Payload: next.first + int32(first.Payload), Round: int32(first.Round), Source: next.source, Fault: fate.Kinds, Delay: fate.Delay},
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
			again.From, again.Origin, again.Due, again.Delay = original, engine.FromFault, first.Due.Add(fate.Delay+later), fate.Delay+later
			d.taken = arrivalInfo{again, eventInfo{feed: -1, caller: -1}, nil}
			in := d.arrived(&d.taken)
			in.Delay = fate.Delay + later
			if job := d.handle(now, in, self); job != nil {
				own = job
			}
		}
	}
	if !waiting && !d.noMore && d.traces == nil {
		d.noMore = true
		if job := d.handle(now, engine.Input{Kind: engine.NoMore}, self); job != nil {
			own = job
		}
	}
	return own
}

// arrived returns the input of an event that comes, and notes how many deliveries
// it has.
func (d *Driver) arrived(a *arrivalInfo) engine.Input {
	source, p := a.arrival.Source, d.payloads[a.arrival.Payload]
	in := engine.Input{Kind: engine.Arrived, Source: source, Routes: d.takesOf(source, a.arrival.Payload), Key: d.sorter.Key(int(source), p), Delay: ownDelay(&d.p.Sources[source], p), Async: p.Async()}
	a.info.open = deliveries(in.Routes)
	return in
}

// deliveries returns how many an event has.
func deliveries(takes uint64) int32 { return int32(max(1, bits.OnesCount64(takes))) }

// ownDelay returns how long a queue's message asks to be hidden, by its attribute
// `delay`.
func ownDelay(src *plan.Source, p *payload.Payload) time.Duration {
	if src.Kind != plan.Queue || p.Event == nil {
		return 0
	}
	text, _ := p.Event.Attribute("delay")
	delay, err := time.ParseDuration(text)
	if err != nil {
		return 0
	}
	return max(delay, 0)
}

// takesOf returns the wires that take a payload; it is the same each time.
func (d *Driver) takesOf(source, payload int32) uint64 {
	k := [2]int32{source, payload}
	takes, ok := d.routes[k]
	if !ok {
		takes = d.p.Routes(int(source), d.payloads[payload])
		d.routes[k] = takes
	}
	return takes
}

// nextWake returns when something falls due next.
func (d *Driver) nextWake(now clock.Time) clock.Time {
	next := min(d.wake, d.nextChange())
	if !d.over && !d.closing {
		for _, f := range d.feeds {
			if a, state := d.peek(f, now); state != arrival.Over {
				next = min(next, a.Due)
			}
		}
	}
	if d.levelsDue {
		next = min(next, d.levelsAt.Add(levelEvery))
	}
	return next
}

// tick calls the engine when it wants to be called, and when events fall due.
func (d *Driver) tick() {
	d.kick.prepare()
	for {
		d.mu.Lock()
		d.asleep = d.nextWake(d.now())
		until := d.asleep
		d.mu.Unlock()
		if until > d.now() {
			at := time.Time{}
			if until != clock.Never {
				at = d.began.Add(time.Duration(until))
			}
			if !d.kick.sleep(at) {
				return
			}
			continue
		}
		d.mu.Lock()
		d.asleep = 0 // no one needs to wake what is awake
		d.mu.Unlock()
		d.step(engine.Input{}, nil)
	}
}

// carryOut does what an effect requests, and records it.
func (d *Driver) carryOut(f *engine.Effect, self *slot) *job {
	switch f.Kind {
	case engine.EventTaken:
		d.take(f)
	case engine.Start:
		d.start(f)
	case engine.Send:
		return d.send(f, self)
	case engine.Stop:
		in := d.instances[f.Instance]
		in.record().Reason = f.Reason
		in.stopping = true
		if f.Reason == engine.NeverReady {
			d.unexplainedStarts[f.Function]++
		}
		go in.stop()
	case engine.GivenUp:
		d.instances[f.Instance].slot(f.Slot).settle(f.At, engine.Timeout)
	case engine.AttemptEnded:
		if d.traces != nil {
			d.tried(f)
			break
		}
		d.rec.Attempts = append(d.rec.Attempts, measure.Attempt{Event: f.Event, Invocation: f.Invocation, Source: f.Source, Wire: f.Wire, N: f.Attempt, Result: f.Result})
		e := &d.events[f.Event]
		e.last = attempt{f.Attempt, f.Status, f.Result}
		e.lose = e.lose && f.Result != engine.AckLost
		d.cutOff(f)
	case engine.Ended:
		if d.traces != nil {
			d.trackEnded(f)
			break
		}
		d.rec.Deliveries = append(d.rec.Deliveries, measure.Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At, Source: f.Source, Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
		if f.Outcome == engine.Unmatched && !d.missed[f.Source] {
			d.missed[f.Source] = true
			d.explainMiss(f)
		}
		d.answer(f)
	case engine.Extended:
		d.extended[d.instances[f.Instance].slot(f.Slot).cur.Source]++
	case engine.Over:
		d.over = true
		close(d.ended)
	}
	return nil
}

// explainMiss notes why no wire took the first of a source's events that none took.
func (d *Driver) explainMiss(f *engine.Effect) {
	p := d.payloads[d.rec.Arrivals[f.Event].Payload]
	if why := d.p.NearestMiss(int(f.Source), p); why != "" {
		d.rec.Notes = append(d.rec.Notes, fmt.Sprintf("%s: no wire took %s: %s", d.p.Sources[f.Source].Name, payload.Short(p.Label(), 100), why))
	}
}

// cutOff settles an invocation that its instance, or the run, did not outlive.
func (d *Driver) cutOff(f *engine.Effect) {
	if f.Result != engine.RunEnded && f.Result != engine.Crash {
		return
	}
	for _, sl := range d.instances[f.Instance].slots {
		if sl.open && sl.cur.ID == f.Invocation {
			sl.settle(f.At, f.Result)
		}
	}
}

// take records an event that got its number.
func (d *Driver) take(f *engine.Effect) {
	if d.traces != nil {
		d.track(f)
		return
	}
	a, info := d.taken.arrival, d.taken.info
	switch f.Origin {
	case engine.FromDeadLetter:
		a, info = d.rec.Arrivals[f.From], eventInfo{feed: -1, caller: -1, steps: d.events[f.From].steps, last: d.events[f.From].last, open: int32(len(d.p.Sources[f.Source].Wires))}
		a.Due, a.From, a.Source, a.Origin, a.Fault = f.At, f.From, f.Source, f.Origin, 0
	case engine.FromReply:
		next := d.nextOnward()
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
	d.rec.Arrivals = append(d.rec.Arrivals, a)
	d.events = append(d.events, info)
}

// answer answers the caller of an event once all its deliveries have ended.
func (d *Driver) answer(f *engine.Effect) {
	e := &d.events[f.Event]
	if f.Outcome == engine.Rejected {
		e.pause = max(e.pause, retryAfter)
	}
	if e.open--; e.open > 0 {
		return
	}
	if e.feed >= 0 && e.caller >= 0 {
		d.answered(d.feeds[e.feed], e.caller, f.At.Add(e.pause))
	}
	if n := d.rec.Arrivals[f.Event].Payload; int(n) >= d.fixed {
		d.done = append(d.done, n)
	}
}

// level records the state of functions that changed, at most every levelEvery.
func (d *Driver) level(now clock.Time, last bool) {
	if d.traces != nil {
		return
	}
	if !last && now < d.levelsAt.Add(levelEvery) && d.levelsAt > 0 {
		d.levelsDue = true
		return
	}
	d.levelsAt, d.levelsDue = now, false
	for i := range d.levels {
		l := d.eng.Stats(i)
		was := d.levels[i]
		is := measure.Level{At: was.At, Function: int32(i), Waiting: int32(l.Waiting), InFlight: int32(l.InFlight), Starting: int32(l.Starting), Ready: int32(l.Ready)}
		if is != was {
			is.At = now
			d.levels[i] = is
			d.rec.Levels = append(d.rec.Levels, is)
		}
	}
}

// fail notes that something went wrong with a function, once for each way.
func (d *Driver) fail(fn int32, why Trouble) {
	why.At = time.Now()
	d.troubles[fn] = why
	if d.traces != nil {
		d.explain(fn)
		return
	}
	text := why.Text
	key := fmt.Sprint(fn, text)
	if d.failures[key] == nil {
		d.failures[key] = &failure{text: d.p.Functions[fn].Name + " " + text}
	}
	d.failures[key].times++
}

func (d *Driver) failuresInOrder() (out []string) {
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
