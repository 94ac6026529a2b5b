// Package runner runs functions: the engine fed from real processes, real requests and real
// time.
//
// A [Runner] has the engine, its clock and the instances with their slots. It is used in two
// ways, which differ in what they record. [New] prepares a [Drill]: its Run carries the drill
// out and returns when it is over; Snapshot returns what has been recorded so far. [Follow]
// prepares a [Follower], which runs until its context ends: Fire hands in one event, and what
// happens to it is found in its [Trace].
//
// The engine is behind one lock. Each goroutine with news for it (a slot with a reply, a
// process that ended, the clock) takes the lock, hands the input in and carries the effects
// out; a slot whose reply leads to its own next request continues with that without waking
// another goroutine.
package runner

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"sync"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/spans"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/live/upstream"
)

const (
	// grace is the time between SIGTERM and SIGKILL.
	grace = 2 * time.Second
	// stopTimeout bounds a function's own stop command.
	stopTimeout = 10 * time.Second
	// troubleLines is how many lines of output are kept with a trouble.
	troubleLines = 40
	// slotsReady is the number of starts of a bounded function that are prepared ahead.
	slotsReady = 4
)

// Runner is what a drill and a session have in common: the engine, its clock, and the
// instances with their slots. What is done with events, attempts and replies is up to its
// recorder.
type Runner struct {
	seed       uint64
	heard      func(line string) // gets what the functions write; nil for none
	p          *plan.Project
	recorder   recorder
	trace      uint64          // first half of trace IDs
	tag        string          // tells this run's instances from those of others
	log        *logs.Log       // of what the functions write; nil for none
	objects    Objects         // nil for none
	publish    string          // where functions publish; "" for nowhere
	mqtt       string          // likewise over MQTT
	neighbours *upstream.Set   // stand-ins for upstreams; nil for none
	machine    *machineMeter   // of a drill; nil of a session
	receiver   *spans.Receiver // of spans; nil for none
	bindAt     string          // the host at which functions in other networks reach this machine's listeners

	mu      sync.Mutex
	fns     []function
	eng     *engine.Engine
	fx      engine.Effects
	journal *bufio.Writer // of inputs and effects; nil for none
	sorter  *plan.Sorter
	clockwork

	instances []*instance // by the engine's number
	alive     []*instance // those whose process is not gone
	records   []record.Instance
	notes     []string
	chained   []chainedEvent // replies that are being sent on, in their order
	all       int            // the project total
	sockets   *proc.Sockets  // nil until one is needed
	socketed  int            // sockets so far

	opened  bool          // events fall due: the instances of keep_warm are ready
	awaited bool          // something awaits news
	news    chan struct{} // closed when something has happened
	life    context.Context
	endLife context.CancelFunc
	closing bool           // the run is over
	over    bool           // the engine said Over
	ended   chan struct{}  // closed then
	running sync.WaitGroup // processes
}

// function is what a runner knows of a function.
type function struct {
	*plan.Function         // as it is to be started now
	version        string  // of the code, in words
	trouble        Trouble // the last one
	unexplained    int     // instances that were never ready, and of which it is not known yet why
	unready        bool    // an instance of keep_warm did not start
	spares         spares
	sentOn         []int // replies that were sent on, by their place in Then
}

// clockwork is the time of a run, and what wakes the engine.
type clockwork struct {
	began  time.Time
	wake   clock.Time // when the engine wants to be called
	asleep clock.Time // until when the clock sleeps
	kick   *alarm
}

// recorder decides what a run keeps, and where its events come from. Its methods are called
// with the runner's lock held.
type recorder interface {
	// payloadOf returns the payload of an event, and how often its set had been used up.
	payloadOf(event int64) (p *payload.Payload, round int32)
	// deadLetter reports whether an event is a dead letter, of which source, and how its
	// last attempt there ended.
	deadLetter(event int64) (of string, last attempt, ok bool)
	// chainSteps returns how many steps of a chain led to an event.
	chainSteps(event int64) int
	// chainedPayload keeps the payload of a reply that is sent on. It returns the payload that
	// is kept, and its number.
	chainedPayload(p *payload.Payload) (kept *payload.Payload, number int32)

	eventTaken(f *engine.Effect)
	dispatched(f *engine.Effect, sl *slot, j *job)
	attemptEnded(f *engine.Effect)
	deliveryEnded(f *engine.Effect)
	leaseExtended(source int32)
	// replied is called for every reply, before its invocation is settled. why is how it
	// missed its payload's expectations, "" if it did not.
	replied(s *slot, j *job, r *transport.Reply, key uint64, why string)
	// settled is called when a slot's invocation is over.
	settled(s *slot)
	// doubted is called with a slot whose replies may be those of other requests: to those that were sent since its
	// connection was quiet, and before a time.
	doubted(s *slot, before clock.Time)
	failed(fn int32)
	changed(fn int, text string)

	// handIn hands in what has fallen due.
	handIn(now clock.Time, self *slot) *job
	// stepped is called at the end of every step.
	stepped(now clock.Time)
	// nextDue returns when there is something to hand in or to record.
	nextDue(now clock.Time) clock.Time
	// mayPark reports whether processes of a function may be started ahead.
	mayPark(fn int32) bool
	// nameOf returns a name of an event that is the same in each run of a drill; "" where there is none.
	nameOf(event int64) string
	// called is called with a call to an upstream that is over. attempts are those of a follower that made it, or
	// may have.
	called(c *record.Call, label, why string, attempts []*Attempt)
	// spanned is called with a span of an event's trace, whose Event is set; it may be of another process.
	spanned(s *record.Span, x *spans.Span)
	// missed returns where it is counted which spans were not kept.
	missed() *record.SpansMissed
	// keepsReplies returns how many bytes of a reply's body are kept.
	keepsReplies() int
}

// Config is what a run is made from.
type Config struct {
	ID      string
	Log     *logs.Log // of what the functions write; nil for none
	Objects Objects   // where replies that become objects are put; nil for none
	Code    []Code    // of each function; nil where it is not known

	Publish string // the address at which functions publish events; "" for none
	MQTT    string // likewise over MQTT
	// Upstreams are the stand-ins for the services that functions call; nil for none. BindAt is the host at which their
	// addresses for functions in other networks are; "" for 127.0.0.1.
	Upstreams *upstream.Set
	BindAt    string
	Hosts     []string  // names that requests of functions may be addressed to, beside those of this machine
	Journal   io.Writer // of the engine's inputs and effects, for engine.Reenact; nil for none
	// Plan, Machine, Commit and Branch are kept with the run of a drill.
	Plan                    []byte
	Machine, Commit, Branch string
	// ReadObject returns the bytes of an object that an event of a drill reports, or nil.
	ReadObject func(bucket, key string) []byte
}

// Code is what is known of a function's code.
type Code struct {
	Function *plan.Function // its settings, in place of the project's; nil for those
	Version  string
	Prepared time.Duration // what its preparation took, or 0
	Size     int64         // bytes of its package, or 0
}

// attempt is how the last attempt of an event ended: what a dead letter says.
type attempt struct {
	n, status int32
	result    engine.Result
}

// Trouble is what last went wrong with a function's process.
type Trouble struct {
	Text    string // what happened and what to do, to follow the function's name
	Lines   []string
	Version string // of the code that it happened to
	Started bool   // it had been ready
	At      time.Time
}

// newRunner prepares a runner; the caller sets its recorder.
func newRunner(c Config, p *plan.Project, limits []plan.Limits, settle time.Duration, seed uint64) *Runner {
	r := &Runner{
		publish:    c.Publish,
		mqtt:       c.MQTT,
		neighbours: c.Upstreams,
		bindAt:     c.BindAt,
		p:          p,
		log:        c.Log,
		objects:    c.Objects,
		all:        p.Concurrency,
		seed:       seed,
		eng:        engine.New(p, limits, settle),
		sorter:     p.NewSorter(),
		clockwork:  clockwork{asleep: clock.Never, kick: newAlarm()},
		news:       make(chan struct{}),
		ended:      make(chan struct{}),
	}
	r.life, r.endLife = context.WithCancel(context.Background())
	for i := range p.Functions {
		f := function{Function: &p.Functions[i], sentOn: make([]int, len(p.Functions[i].Then))}
		if i < len(c.Code) {
			if f.version = c.Code[i].Version; c.Code[i].Function != nil {
				f.Function = c.Code[i].Function
			}
		}
		r.fns = append(r.fns, f)
	}
	r.trace = record.TraceOf(seed, c.ID)
	r.tag = fmt.Sprintf("%06x", r.trace&0xffffff)
	if c.Journal != nil {
		r.journal = bufio.NewWriterSize(c.Journal, 1<<20)
		_, _ = r.journal.Write(engine.JournalSetup(p, limits, settle)) // Flush returns the error
	}
	return r
}

// now returns the time of the run.
func (d *Runner) now() clock.Time { return d.at(time.Now()) }

// At returns a moment as the run's time; the run has begun.
func (d *Runner) At(t time.Time) clock.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.at(t)
}

func (d *Runner) at(t time.Time) clock.Time { return clock.Time(t.Sub(d.began)) }

// prepare starts what is started ahead. The returned function releases what was reserved.
func (d *Runner) prepare() (release func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var reserved []func()
	for i := range d.fns {
		if f := d.fns[i].Function; f.Transport != plan.Attach {
			reserved = append(reserved, proc.Reserve(boundsOf(f), min(f.Limits.Instances(), slotsReady)))
		}
	}
	for i := range d.fns {
		d.awaited = d.awaited || d.fns[i].Parked > 0
		d.park(int32(i))
	}
	return func() {
		for _, f := range slices.Backward(reserved) {
			f()
		}
	}
}

// startClock begins the run's time, unless it has begun. The returned channel is closed when
// the clock has stopped.
func (d *Runner) startClock() (stopped <-chan struct{}) {
	d.mu.Lock()
	if d.began.IsZero() {
		d.began = time.Now()
	}
	d.mu.Unlock()
	done := make(chan struct{})
	go func() {
		defer close(done)
		d.tick()
	}()
	go d.sample()
	d.step(engine.Input{}, nil)
	return done
}

// finish waits until the run is over or the context ends, and then until every process is gone.
// It reports whether the run came to its end.
func (d *Runner) finish(ctx context.Context, stopped <-chan struct{}) (finished bool) {
	select {
	case <-ctx.Done():
	case <-d.ended:
		finished = true
	}
	if finished && d.receiver != nil { // what was sent last is on its way
		select {
		case <-time.After(spanPatience):
		case <-ctx.Done():
		}
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
	d.receiver.Close()
	d.kick.close()
	<-stopped
	if d.journal != nil {
		if err := d.journal.Flush(); err != nil {
			d.mu.Lock()
			d.note("the journal could not be written: " + err.Error())
			d.mu.Unlock()
		}
	}
	return finished
}

// Stats returns the state of each function now.
func (d *Runner) Stats() []engine.Stats {
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
func (d *Runner) step(in engine.Input, self *slot) *job {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.stepLocked(in, self)
}

// stepLocked is step for those who hold the lock. It reads the clock once: what
// falls due meanwhile is the next step's.
func (d *Runner) stepLocked(in engine.Input, self *slot) *job {
	now := d.now()
	own := d.handle(now, in, self)
	if next := d.recorder.handIn(now, self); next != nil {
		own = next
	}
	d.recorder.stepped(now)
	d.signal()
	if wake := d.nextWake(now); wake < d.asleep {
		d.asleep = wake
		d.kick.ring()
	}
	return own
}

// handle hands one input over; the lock is held.
func (d *Runner) handle(now clock.Time, in engine.Input, self *slot) (own *job) {
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

// nextWake returns when something falls due next.
func (d *Runner) nextWake(now clock.Time) clock.Time { return min(d.wake, d.recorder.nextDue(now)) }

// tick calls the engine when it wants to be called, and when events fall due.
func (d *Runner) tick() {
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
func (d *Runner) carryOut(f *engine.Effect, self *slot) *job {
	switch f.Kind {
	case engine.EventTaken:
		d.recorder.eventTaken(f)
	case engine.Start:
		d.start(f)
	case engine.Send:
		return d.send(f, self)
	case engine.Stop:
		in := d.instances[f.Instance]
		in.record().Reason = f.Reason
		in.stopping = true
		d.leftover(in)
		if f.Reason == engine.NeverReady {
			d.fns[f.Function].unexplained++
		}
		go in.stop()
	case engine.GivenUp:
		d.instances[f.Instance].slot(f.Slot).settle(f.At, engine.Timeout)
	case engine.AttemptEnded:
		d.recorder.attemptEnded(f)
	case engine.Ended:
		d.recorder.deliveryEnded(f)
	case engine.Extended:
		d.recorder.leaseExtended(d.instances[f.Instance].slot(f.Slot).cur.Source)
	case engine.Over:
		d.over = true
		close(d.ended)
	}
	return nil
}

// cutOff settles an invocation that its instance, or the run, did not outlive.
func (d *Runner) cutOff(f *engine.Effect) {
	if f.Result != engine.RunEnded && f.Result != engine.Crash {
		return
	}
	for _, sl := range d.instances[f.Instance].slots {
		if sl.open && sl.cur.ID == f.Invocation {
			sl.settle(f.At, f.Result)
		}
	}
}

// fail notes what went wrong with a function.
func (d *Runner) fail(fn int32, why Trouble) {
	why.At = time.Now()
	d.fns[fn].trouble = why
	d.recorder.failed(fn)
}

// note enters a note into the run, once; the lock is held.
func (d *Runner) note(text string) {
	if !slices.Contains(d.notes, text) {
		d.notes = append(d.notes, text)
	}
}

// await waits until something holds, which is looked at with the lock held
// whenever anything has happened.
func (d *Runner) await(ctx context.Context, holds func() bool) bool {
	for {
		d.mu.Lock()
		ok, news := holds(), d.news
		d.mu.Unlock()
		if ok {
			return true
		}
		select {
		case <-news:
		case <-ctx.Done():
			return false
		}
	}
}

// signal wakes those who await a change; the lock is held.
func (d *Runner) signal() {
	if d.awaited {
		close(d.news)
		d.news = make(chan struct{})
	}
}

// deliveries returns how many an event has.
func deliveries(takes uint64) int32 { return int32(max(1, bits.OnesCount64(takes))) }
