package runner

import (
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/live/upstream"
)

// caller is a process of a function, for the stand-ins that it calls.
type caller struct {
	d  *Runner
	fn int32
	in atomic.Pointer[instance] // nil while it is started ahead
}

func newCaller(in *instance, fn int32) *caller {
	c := &caller{d: in.d, fn: fn}
	c.in.Store(in)
	return c
}

// Calling implements upstream.Caller. The trace context tells exactly where the function passes it on; otherwise it is
// the invocation that the instance carries, where that is one.
func (c *caller) Calling(traceparent string) upstream.Of {
	in := c.in.Load()
	if in == nil {
		return upstream.Of{Starting: true}
	}
	d := c.d
	run, event, invocation, traced := transport.ParseTraceparent(traceparent)
	d.mu.Lock()
	defer d.mu.Unlock()
	traced = traced && run == d.trace|1
	var open, ofEvent []*slot
	for _, s := range in.slots {
		switch {
		case !s.open:
		case traced && s.cur.ID == invocation:
			return d.ofSlot(s)
		case traced && s.event == event:
			ofEvent = append(ofEvent, s)
			fallthrough
		default:
			open = append(open, s)
		}
	}
	if len(ofEvent) == 1 {
		return d.ofSlot(ofEvent[0])
	}
	switch len(open) {
	case 0:
		return upstream.Of{Starting: !in.ready}
	case 1:
		return d.ofSlot(open[0])
	}
	of := upstream.Of{Among: int32(len(open))}
	var attempts []*Attempt
	for _, s := range open {
		attempts = append(attempts, s.tries...)
	}
	of.Sink = attempts
	return of
}

// ofSlot returns whose call it is that an open slot's invocation makes; the lock is held.
func (d *Runner) ofSlot(s *slot) upstream.Of {
	name := d.recorder.nameOf(s.event)
	if name != "" {
		name = d.p.Functions[s.cur.Function].Name + " " + name
	}
	return upstream.Of{Invocation: s.cur.ID, Event: name, Sink: s.tries}
}

// Called implements upstream.Caller.
func (c *caller) Called(of upstream.Of, x upstream.Call) {
	d := c.d
	if d.recorder == nil { // of one start, outside of any run
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	r := x.Call
	r.Function, r.Instance = c.fn, -1
	if in := c.in.Load(); in != nil {
		r.Instance = in.id
	}
	r.Began, r.Done = d.at(x.Began), d.at(x.Done)
	if !x.First.IsZero() {
		r.First = d.at(x.First)
	}
	r.Waited = clock.Time(x.Waited)
	attempts, _ := of.Sink.([]*Attempt)
	d.recorder.called(&r, x.Label, x.Why, attempts)
}

// withUpstreams opens a process's addresses of its upstreams, and adds them to its environment.
func (d *Runner) withUpstreams(l *launched, fn *plan.Function, env []string) ([]string, error) {
	if d.neighbours == nil || len(fn.Upstreams) == 0 {
		return env, nil
	}
	host := ""
	if fn.ReachAt != "" {
		host = d.bindAt
	}
	var err error
	if l.gate, err = d.neighbours.Gate(l.caller, fn.Upstreams, host); err != nil {
		return env, err
	}
	for _, i := range fn.Upstreams {
		if name := d.neighbours.Upstreams[i].Env; name != "" {
			env = append(env, name+"="+plan.Reach(fn.ReachAt, l.gate.URL(i)))
		}
	}
	return append(env, l.gate.ProxyEnvironment(func(url string) string { return plan.Reach(fn.ReachAt, url) },
		func(name string) (string, bool) {
			value, i := lookUp(env, name)
			return value, i >= 0
		})...), nil
}

// lookUp returns the value of a variable of an environment, and its place; -1 where it has none.
func lookUp(env []string, name string) (value string, place int) {
	for i, e := range env {
		if value, ok := strings.CutPrefix(e, name+"="); ok {
			return value, i
		}
	}
	return "", -1
}

// SetUpstream changes how a stand-in behaves while the run goes on, and enters that into the run.
func (d *Runner) SetUpstream(i int, b plan.Behaviour) {
	was := d.neighbours.Behaviour(i)
	if was == b {
		return
	}
	d.neighbours.SetBehaviour(i, b)
	text := b.String()
	if text == "" {
		text = "as it is"
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.change(-1, d.neighbours.Upstreams[i].Name+": "+text, engine.Input{})
}

// Neighbours returns the stand-ins for upstreams; nil for none.
func (d *Runner) Neighbours() *upstream.Set { return d.neighbours }

const (
	mostCalls  = 2_000_000 // that a run keeps
	mostLabels = 1_000     // request lines of calls that a run keeps
)

// nameOf implements recorder: the payload, and how often its set had been used up.
func (d *Drill) nameOf(event int64) string {
	a := &d.rec.Arrivals[event]
	if int(a.Payload) >= d.fixed {
		return ""
	}
	return PayloadName(d.rec.Payloads[a.Payload].Set, d.rec.Payloads[a.Payload].N, int(a.Round))
}

// PayloadName names an event by its payload, and by how often its set had been used up before.
func PayloadName(set string, n, round int) string {
	if round == 0 {
		return fmt.Sprintf("%s#%d", set, n)
	}
	return fmt.Sprintf("%s#%d~%d", set, n, round+1)
}

// called implements recorder.
func (d *Drill) called(c *record.Call, label, why string, _ []*Attempt) {
	if len(d.rec.Calls) >= mostCalls {
		d.rec.CallsLost++
		return
	}
	n, known := d.labels[label]
	if !known && len(d.labels) < mostLabels {
		d.rec.CallLabels = append(d.rec.CallLabels, label)
		n = int32(len(d.rec.CallLabels))
		d.labels[label] = n
	}
	c.Label = n
	d.rec.Calls = append(d.rec.Calls, *c)
	if c.Way == record.CallMissing && len(d.unrecorded) < mostMissing && !d.unrecorded[why] {
		d.unrecorded[why] = true
		d.note("upstream " + why)
	}
}

// mostMissing bounds the calls without a recorded reply that a run names.
const mostMissing = 20

// nameOf implements recorder.
func (d *Follower) nameOf(event int64) string {
	if t := d.traces[event]; t != nil {
		return t.Name
	}
	return ""
}

// called implements recorder.
func (d *Follower) called(c *record.Call, label, why string, attempts []*Attempt) {
	for _, x := range attempts {
		if len(x.Calls) < mostCallsShown {
			x.Calls = append(x.Calls, Call{*c, d.neighbours.Upstreams[c.Upstream].Name, label, why,
				d.began.Add(time.Duration(c.Began))})
		} else {
			x.CallsLost++
		}
	}
}

// mostCallsShown bounds the calls that are kept of one attempt.
const mostCallsShown = 1000

// Call is a call to an upstream, of an attempt.
type Call struct {
	record.Call
	Name  string // of the upstream
	Label string // its request line, without secrets
	Why   string // what went wrong; "" for nothing
	At    time.Time
}
