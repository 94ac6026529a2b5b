package runner

import (
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/transport"
)

// Objects is where replies that become objects are put.
type Objects interface {
	// Keep stores an object and says what the event that reports it says. It
	// tells no one else.
	Keep(bucket, key, kind string, data []byte) (event.Object, error)
}

// sentOn is a reply on its way to a source.
type sentOn struct {
	then int // its place in the function's Then
	to   int
	p    payload.Payload
}

// chainedEvent is a reply on its way to the engine.
type chainedEvent struct {
	arrivalInfo
	fn, then int32
}

// nextChained takes the reply that the engine has just made an event of.
func (d *Runner) nextChained() chainedEvent {
	x := d.chained[0]
	d.chained = d.chained[1:]
	d.fns[x.fn].sentOn[x.then]++
	return x
}

// SentOn returns how many replies were sent on, by the function's name and their
// place in its Then.
func (d *Runner) SentOn() map[string][]int {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string][]int{}
	for i := range d.fns {
		if f := &d.fns[i]; len(f.sentOn) > 0 {
			out[f.Name] = slices.Clone(f.sentOn)
		}
	}
	return out
}

// chain makes of a good reply what it is sent on as; objects are stored. It does
// not need the lock.
func (s *slot) chain(j *job, r *transport.Reply) (out []sentOn) {
	d, fn := s.in.d, s.in.fn
	if len(fn.Then) == 0 || r.Result != engine.OK {
		return nil
	}
	body, _ := r.Plain()
	reply := plan.Reply{Function: fn.Name, Status: r.Status, Kind: r.Header.Get("Content-Type"),
		Header: r.Header.Values, Body: body, Subject: j.subject, At: r.Done.UTC().Round(0)}
	for i := range fn.Then {
		t := &fn.Then[i]
		if !t.Holds(&reply) {
			continue
		}
		to := &d.p.Sources[t.To]
		o, err := t.Make(to, &reply, fmt.Sprintf("%s-%s-%d", fn.Name, d.tag, j.invocation), s.in.ctx.Err)
		if err == nil && to.Kind == plan.Storage {
			err = d.put(to, &o)
		}
		if err != nil {
			d.mu.Lock()
			d.fail(s.in.record().Function, Trouble{Text: fmt.Sprintf("replied, but its reply could not be sent on "+
				"to %s: %v", to.Name, err), Started: true})
			d.mu.Unlock()
			continue
		}
		out = append(out, sentOn{i, t.To, o.Payload})
	}
	return out
}

// put stores a reply as an object, and makes of its event the one that reports it.
func (d *Runner) put(to *plan.Source, o *plan.ChainEvent) error {
	if d.objects == nil {
		return fmt.Errorf("there is no object store")
	}
	kept, err := d.objects.Keep(to.Bucket, o.Key, o.Payload.Event.DataContentType, o.Payload.Event.Data)
	if err == nil {
		o.Payload.Event = kept.Event(o.Payload.Event.ID, time.Now().UTC())
	}
	return err
}

// sendOn adds what a function's reply is sent on as to the engine's input; the lock
// is held.
func (d *Runner) sendOn(in *engine.Input, fn int32, from int64, sent []sentOn) {
	d.chained = d.chained[:0]
	if len(sent) > 0 && d.recorder.chainSteps(from) >= d.p.Steps {
		d.note(fmt.Sprintf("a chain was stopped after %d steps (chain_steps)", d.p.Steps))
		return
	}
	for i := range sent {
		a := arrivalInfo{record.Arrival{Source: int32(sent[i].to)}, eventInfo{feed: -1, caller: -1}, &sent[i].p}
		p, number := d.recorder.chainedPayload(&sent[i].p)
		a.arrival.Payload = number
		routes := d.chainedRoutes(sent[i].to, p, from)
		a.info.open = deliveries(routes)
		in.Then = append(in.Then, engine.Then{Source: int32(sent[i].to), Takes: routes, Key: d.sorter.Key(sent[i].to,
			p)})
		d.chained = append(d.chained, chainedEvent{a, fn, int32(sent[i].then)})
	}
}

// chainedRoutes returns the wires that a reply is sent on by; from is the event that was replied to.
func (d *Runner) chainedRoutes(source int, p *payload.Payload, from int64) uint64 {
	routes := d.p.Routes(source, p)
	return d.divide(source, routes, p, int32(from), 0)
}

// Wires returns what waits on each wire of each source now.
func (d *Runner) Wires() [][]engine.WireStats {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := make([][]engine.WireStats, len(d.p.Sources))
	for s := range d.p.Sources {
		for w := range d.p.Sources[s].Wires {
			out[s] = append(out[s], d.eng.WireStats(s, w))
		}
	}
	return out
}

// Lanes returns the state of each partition of a stream, over all of its wires.
func (d *Runner) Lanes(source int) (out []engine.LaneStats) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for w := range d.p.Sources[source].Wires {
		for i, l := range d.eng.LaneStats(source, w, nil) {
			if i == len(out) {
				out = append(out, engine.LaneStats{Eldest: clock.Never})
			}
			out[i].Lag, out[i].Eldest = max(out[i].Lag, l.Lag), min(out[i].Eldest, l.Eldest)
			out[i].Tries, out[i].Blocked, out[i].Alone = max(out[i].Tries, l.Tries), out[i].Blocked || l.Blocked,
				out[i].Alone || l.Alone
		}
	}
	return out
}
