package runner

import (
	"fmt"
	"hash/maphash"
	"slices"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/event"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/transport"
)

// Objects is where replies that become objects are put.
type Objects interface {
	// Keep stores an object and says what the event that reports it says. It
	// tells no one else.
	Keep(bucket, key, kind string, data []byte) (event.Object, error)
}

// Store names the object store that replies are put into. It is called before Run.
func (d *Driver) Store(o Objects) { d.objects = o }

// sentOn is a reply on its way to a source.
type sentOn struct {
	then int // its place in the function's Then
	to   int
	p    payload.Payload
}

// onwardInfo is a reply on its way to the engine.
type onwardInfo struct {
	arrivalInfo
	fn, then int32
}

// nextOnward takes the reply that the engine has just made an event of.
func (d *Driver) nextOnward() onwardInfo {
	x := d.onward[0]
	d.onward = d.onward[1:]
	d.sentOn[x.fn][x.then]++
	return x
}

// SentOn returns how many replies were sent on, by the function's name and their
// place in its Then.
func (d *Driver) SentOn() map[string][]int {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string][]int{}
	for i, sent := range d.sentOn {
		if len(sent) > 0 {
			out[d.fns[i].Name] = slices.Clone(sent)
		}
	}
	return out
}

// onward makes of a good reply what it is sent on as; objects are stored. It does
// not need the lock.
func (s *slot) onward(j *job, r *transport.Reply) (out []sentOn) {
	d, fn := s.in.d, s.in.fn
	if len(fn.Then) == 0 || r.Result != engine.OK {
		return nil
	}
	body, _ := r.Plain()
	reply := plan.Reply{Function: fn.Name, Status: r.Status, Kind: r.Header.Get("Content-Type"), Header: r.Header.Values, Body: body, Subject: j.subject, At: r.Done.UTC().Round(0)}
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
			d.fail(s.in.record().Function, Trouble{Text: fmt.Sprintf("replied, but its reply could not be sent on to %s: %v", to.Name, err), Started: true})
			d.mu.Unlock()
			continue
		}
		out = append(out, sentOn{i, t.To, o.Payload})
	}
	return out
}

// put stores a reply as an object, and makes of its event the one that reports it.
func (d *Driver) put(to *plan.Source, o *plan.ChainEvent) error {
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
func (d *Driver) sendOn(in *engine.Input, fn int32, from int64, sent []sentOn) {
	d.onward = d.onward[:0]
	steps := int32(0)
	if d.traces != nil {
		if t := d.traces[from]; t != nil {
			steps = int32(t.Steps)
		}
	} else {
		steps = d.events[from].steps
	}
	if len(sent) > 0 && int(steps) >= d.p.Steps {
		if !d.longest {
			d.longest = true
			d.rec.Notes = append(d.rec.Notes, fmt.Sprintf("a chain was stopped after %d steps (chain_steps)", d.p.Steps))
		}
		return
	}
	for i := range sent {
		p := &sent[i].p
		a := arrivalInfo{measure.Arrival{Source: int32(sent[i].to)}, eventInfo{feed: -1, caller: -1}, p}
		if d.traces == nil {
			a.arrival.Payload = d.chainedPayload(p)
			p = d.payloads[a.arrival.Payload]
		}
		takes := d.p.Routes(sent[i].to, p)
		a.info.open = deliveries(takes)
		in.Then = append(in.Then, engine.Then{Source: int32(sent[i].to), Takes: takes, Key: d.sorter.Key(sent[i].to, p)})
		d.onward = append(d.onward, onwardInfo{a, fn, int32(sent[i].then)})
	}
}

var chainSeed = maphash.MakeSeed()

// chainedPayload returns the number of a payload that was made of a reply; replies
// that are alike have one.
func (d *Driver) chainedPayload(p *payload.Payload) int32 {
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
	n, known := d.chained[key]
	if !known {
		n = int32(len(d.payloads))
		d.chained[key] = n
		kept := *p
		d.uses[n] = &reply{key: key}
		d.payloads, d.expects = append(d.payloads, &kept), append(d.expects, nil)
		d.rec.Payloads = append(d.rec.Payloads, measure.Payload{Set: "replies", N: len(d.payloads) - d.fixed, Label: kept.Label(), Blob: d.keep(EventText(&kept), &d.kept, quota)})
	}
	return n
}

// reply counts the events of a payload that was made of a reply.
type reply struct {
	key    uint64
	events int
}

// release frees what replies were sent on as, once no event of it is open: a run may have any
// number of them.
func (d *Driver) release() {
	for _, n := range d.done {
		u := d.uses[n]
		if u == nil {
			continue
		}
		if u.events--; u.events > 0 {
			continue
		}
		delete(d.uses, n)
		delete(d.chained, u.key)
		d.payloads[n] = &payload.Payload{}
	}
	d.done = d.done[:0]
}

// Wires returns what waits on each wire of each source now.
func (d *Driver) Wires() [][]engine.WireStats {
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
func (d *Driver) Lanes(source int) (out []engine.LaneStats) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for w := range d.p.Sources[source].Wires {
		for i, l := range d.eng.LaneStats(source, w, nil) {
			if i == len(out) {
				out = append(out, engine.LaneStats{Eldest: clock.Never})
			}
			out[i].Lag, out[i].Eldest = max(out[i].Lag, l.Lag), min(out[i].Eldest, l.Eldest)
			out[i].Tries, out[i].Blocked, out[i].Alone = max(out[i].Tries, l.Tries), out[i].Blocked || l.Blocked, out[i].Alone || l.Alone
		}
	}
	return out
}
