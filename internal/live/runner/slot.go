package runner

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/transport"
)

// slot is room for one invocation: one connection, one goroutine.
type slot struct {
	in     *instance
	number int32
	jobs   chan *job
	cur    record.Invocation // what it carries, while open
	open   bool
	event  int64      // the first that it carries
	tries  []*Attempt // of a follower: what it carries
	// conn is where its requests go, while it is not busy; nil where replies are told apart by what they say.
	conn *transport.Conn
	busy bool // with a request, of an invocation that may be over
	// quiet is when the first request went out since the connection was last known to hold no
	// reply that no one had asked for; later ones may have got the reply to another.
	quiet clock.Time
}

// job is one invocation to be made.
type job struct {
	invocation uint64
	event      int64 // the first of the batch
	message    transport.Message
	// makes the message when it is about to be sent; nil where it is made
	late    func(context.Context) transport.Message
	trace   string
	tries   []*Attempt // of a follower
	ids     []string   // of a batch's events, in order
	subject string     // of the first
	lose    bool       // the acknowledgement is to be lost, if there is one
	payload *payload.Payload
	expect  *payload.Expect // of the answer; nil for nothing
}

// send returns an invocation to its slot; the lock is held.
func (d *Runner) send(f *engine.Effect, self *slot) *job {
	in := d.instances[f.Instance]
	sl := in.slot(f.Slot)
	sl.open, sl.busy, sl.event = true, true, d.fx.Events[f.First]
	sl.cur = record.Invocation{ID: f.Invocation, Assigned: f.At, Function: f.Function, Instance: f.Instance,
		Slot:   f.Slot,
		Source: f.Source, Wire: f.Wire, Batch: f.N, Class: f.Class}
	if f.Class == engine.Cold {
		in.record().Wanted = true
	}
	j := d.build(f, in.fn)
	d.recorder.dispatched(f, sl, j)
	if sl == self {
		return j
	}
	sl.jobs <- j // a slot gets one at a time, so there is room
	return nil
}

// build makes the request of an invocation.
func (d *Runner) build(f *engine.Effect, fn *plan.Function) (j *job) {
	ids := d.fx.Events[f.First : f.First+f.N]
	defer func() { j.attempt(f, d.p, fn) }()
	j = &job{invocation: f.Invocation, event: ids[0], trace: transport.Traceparent(d.trace, ids[0], f.Invocation)}
	first, _ := d.recorder.payloadOf(ids[0])
	if first.Event != nil {
		j.subject = first.Event.Subject
	}
	if r := first.Request; r != nil && d.p.Sources[f.Source].Kind == plan.HTTP {
		j.compose(d.life, fn, r, nil, false)
		return j
	}
	events := make([]*event.Event, len(ids))
	for i, id := range ids {
		p, round := d.recorder.payloadOf(id)
		events[i] = p.Event
		if round > 0 {
			// a set that is used again gives new events, not the same ones twice
			again := *events[i]
			again.ID = fmt.Sprintf("%s~%d", again.ID, round+1)
			events[i] = &again
		}
		if fn.ReachAt != "" {
			events[i] = reachable(events[i], fn.ReachAt)
		}
		if of, last, ok := d.recorder.deadLetter(id); ok {
			events[i] = withReason(events[i], of, last)
		}
		j.ids = append(j.ids, events[i].ID)
	}
	j.compose(d.life, fn, nil, events, d.p.Sources[f.Source].BatchMax > 1)
	return j
}

// attempt enters into a handler's call which attempt it is, and whether there will be another.
func (j *job) attempt(f *engine.Effect, p *plan.Project, fn *plan.Function) {
	if fn.Transport != plan.Loaded {
		return
	}
	last := p.Sources[f.Source].Kind == plan.HTTP || int(f.Attempt) >= p.Sources[f.Source].Attempts
	enter := func(m transport.Message) transport.Message {
		if m.Call != nil {
			m.Call.Attempt, m.Call.LastAttempt = f.Attempt, last
		}
		return m
	}
	if late := j.late; late != nil {
		j.late = func(ctx context.Context) transport.Message { return enter(late(ctx)) }
		return
	}
	j.message = enter(j.message)
}

// compose makes the message of an invocation: at once, or, by a template of the user's, when
// it is about to be sent, since that may take as long as it likes.
func (j *job) compose(ctx context.Context, fn *plan.Function, r *event.Request, events []*event.Event, batch bool) {
	if transport.Shaped(fn) {
		j.late = func(ctx context.Context) transport.Message { return transport.Build(ctx, fn, r, events, batch) }
		return
	}
	j.message = transport.Build(ctx, fn, r, events, batch)
}

// reachable returns the event of an object with the object's address as a function in another network reaches it.
func reachable(e *event.Event, at string) *event.Event {
	o, ok := event.ObjectOf(e)
	if !ok || o.URL == "" {
		return e
	}
	o.URL = plan.Reach(at, o.URL)
	out := o.Event(e.ID, e.Time)
	out.Extensions = e.Extensions
	return out
}

// withReason returns a dead letter with attributes that say where it comes from and
// why it was given up.
func withReason(e *event.Event, of string, last attempt) *event.Event {
	c := *e
	c.Extensions = append(slices.Clone(c.Extensions), event.Field{Name: "deadletterof", Value: of},
		event.Field{Name: "deadletterreason", Value: last.result.String()}, event.Field{Name: "deadletterattempts",
			Value: strconv.Itoa(int(last.n))})
	if last.status > 0 {
		c.Extensions = append(c.Extensions, event.Field{Name: "deadletterstatus",
			Value: strconv.Itoa(int(last.status))})
	}
	return &c
}

// work carries out the slot's invocations until its instance is gone.
func (s *slot) work() {
	conn := s.in.carrier
	switch {
	case conn != nil:
	case s.in.loader != nil:
		conn = s.in.carrierOf(s.number)
	default:
		c := transport.New(s.in.address)
		c.Keep, c.Fresh = s.in.d.recorder.keepsReplies(), s.in.fn.Fresh
		conn = c
		s.in.d.mu.Lock()
		s.conn = c
		s.in.d.mu.Unlock()
	}
	defer conn.Close()
	for j := range s.jobs {
		for j != nil {
			if j.late != nil {
				j.message = j.late(s.in.ctx)
			}
			reply := conn.Do(s.in.ctx, &j.message, j.trace)
			j = s.report(j, &reply)
		}
	}
}

// crashWait is how long a broken connection waits for the news that the
// process is gone, so that a crash is called one; endWait how much longer, where it is ending.
const (
	crashWait = 50 * time.Millisecond
	endWait   = 2 * time.Second
)

// crashes waits, once a connection broke, for the process's end, and reports whether it came.
func (in *instance) crashes() bool {
	wait := time.NewTimer(crashWait)
	defer wait.Stop()
	var ended <-chan struct{} // never, of a process that is not ours
	if in.proc != nil && in.fn.Transport != plan.OneShot {
		ended = in.proc.Exited()
	}
	select {
	case <-ended:
		return true
	case <-wait.C:
	}
	if ended == nil || !in.proc.Ending() {
		return false
	}
	wait.Reset(endWait) // on a busy machine; a main thread that ended alone leaves a process that goes on
	select {
	case <-ended:
		return true
	case <-wait.C:
		return false
	}
}

// report hands a reply to the engine, and returns the slot's next job if there
// is one at once.
func (s *slot) report(j *job, r *transport.Reply) *job {
	in := engine.Input{Kind: engine.Answered, Instance: s.in.id, Slot: s.number, Invocation: j.invocation,
		Status: int32(r.Status), RetryAfter: r.RetryAfter}
	if r.Result != engine.OK {
		in.Kind, in.Result = engine.Broken, r.Result
	}
	if (r.Result == engine.Unreachable || r.Result == engine.Disconnected) && s.in.crashes() {
		return nil // the engine hears of the exit
	}
	if r.Result == engine.OK && len(j.ids) > 0 && r.Status == 200 {
		var known bool
		if in.Retry, known = retries(r.Body, j.ids); !known {
			in.Kind, in.Result = engine.Broken, engine.UnknownRetry
		}
	}
	why := ""
	if j.expect != nil && r.Result == engine.OK {
		body, _ := r.Plain()
		why = j.expect.First(j.payload, r.Status, body)
	}
	d, key := s.in.d, r.Key()
	sent := s.chain(j, r)
	d.mu.Lock()
	defer d.mu.Unlock()
	s.busy = false
	began := d.at(r.Sent)
	if r.Sent.IsZero() {
		began = d.now()
	}
	if r.Before || r.Surplus {
		d.surplus(s, began)
	}
	if r.Quiet {
		s.quiet = began
	}
	if r.Closed && !s.in.stopping && !d.closing { // the process lives
		d.fail(s.in.record().Function, Trouble{Text: "closed a connection after a reply without Connection: close " +
			"in it, and the next request, which was on its way, got no reply; with connection: fresh each has its own",
			Version: s.in.version, Started: true})
	}
	d.recorder.replied(s, j, r, key, why)
	if s.carries(j) {
		if !r.Sent.IsZero() {
			s.cur.Sent = d.at(r.Sent)
		}
		if !r.Received.IsZero() {
			s.cur.Received = d.at(r.Received)
		}
		s.cur.Status, s.cur.RetryAfter = int32(r.Status), r.RetryAfter
		result := r.Result
		if in.Kind == engine.Broken {
			result = in.Result
		}
		s.settle(d.at(r.Done), result)
	}
	if in.Kind == engine.Answered {
		d.sendOn(&in, s.in.record().Function, j.event, sent)
		in.AckLost = j.lose
	}
	defer func() { d.chained = nil }() // what the engine made nothing of
	return d.stepLocked(in, s)
}

// carries reports whether the slot still carries a job's invocation; the lock is held.
func (s *slot) carries(j *job) bool { return s.open && s.cur.ID == j.invocation }

// surplus notes that a reply of the slot was followed by bytes that no request asked for.
// Replies since the connection was last known to be quiet may have been those of other
// requests: they had been taken for good ones, and count as unexpected, up to those of requests that
// were sent before a time. The lock is held.
func (d *Runner) surplus(s *slot, before clock.Time) {
	d.recorder.doubted(s, before)
	d.fail(s.in.record().Function,
		Trouble{Text: "sent bytes after a reply that no request asked for; the connection was closed, and its " +
			"replies before that count as unexpected",
			Version: s.in.version, Started: true})
}

// leftover looks for replies that are left over on the connections of an instance that is about to be stopped: at full
// load, only that shows that each request got the reply to the one before. The lock is held.
func (d *Runner) leftover(in *instance) {
	for _, s := range in.slots {
		if s.conn != nil && !s.busy && s.conn.Surplus() {
			d.surplus(s, d.now())
		}
	}
}

// settle records the invocation as over; the lock is held.
func (s *slot) settle(at clock.Time, result engine.Result) {
	if s.open {
		s.open = false
		s.cur.Done, s.cur.Result = at, result
		s.in.d.recorder.settled(s)
	}
}

// retries reads a batch's reply {"retry": ["<event id>", …]}: the positions of
// those events. known is false when it names an event that was not sent.
func retries(body []byte, ids []string) (positions []int32, known bool) {
	var reply struct {
		Retry []string `json:"retry"`
	}
	if json.Unmarshal(body, &reply) != nil {
		return nil, true // any other reply is one that retries nothing
	}
	for _, id := range reply.Retry {
		i := slices.Index(ids, id)
		if i < 0 {
			return nil, false
		}
		positions = append(positions, int32(i))
	}
	return positions, true
}
