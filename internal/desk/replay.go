package desk

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/event"
	"nightdrill/internal/core/fault"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/carry"
	"nightdrill/internal/live/drive"
)

// Replay is a drill made of a run: the same events, from the bytes that the run
// kept, at the same times.
type Replay struct {
	Drill   *plan.Drill
	Project *plan.Project // today's, with the run's payload sets
	Notes   []string      // what is not as it was
}

// ReplayOf makes a drill of a run, to be carried out on today's code. Where the
// payload sets of today hold the same bytes, those are taken, since they have what is
// secret; the run has not.
func (d *Desk) ReplayOf(r *measure.Run) (*Replay, error) {
	var was Told
	if len(r.Plan) == 0 || json.Unmarshal(r.Plan, &was) != nil {
		return nil, fmt.Errorf("run %s is from before runs kept what they were told to do, and cannot be replayed", r.ID)
	}
	out := &Replay{}
	p := *d.Project
	drill := &plan.Drill{Name: r.Drill, Seed: r.Seed, Settle: was.Settle, Idempotence: was.Idempotence, Concurrency: was.Concurrency, Again: r.ID}
	out.Project, out.Drill = &p, drill
	if err := out.limits(d, r, &was); err != nil {
		return nil, err
	}
	sets, err := d.setsOf(r, out)
	if err != nil {
		return nil, err
	}
	p.Sets = append(slices.Clone(p.Sets), sets...)
	first := len(p.Sets) - len(sets)
	place := map[string]int{}
	for i := range sets {
		place[sets[i].Name] = first + i
	}
	if was.Cold != nil {
		drill.Cold = was.Cold
		return out, out.cold(d, r, place)
	}
	return out, out.moments(d, r, place)
}

// limits takes over the limits, their changes and the budgets, as far as the
// functions are still there.
func (x *Replay) limits(d *Desk, r *measure.Run, was *Told) error {
	for i := range d.Functions {
		x.Drill.Limits = append(x.Drill.Limits, d.Functions[i].Limits)
	}
	at := map[int]int{}
	for i, f := range was.Functions {
		if k := d.FunctionNamed(f.Name); k >= 0 && i < len(was.Limits) {
			x.Drill.Limits[k] = was.Limits[i]
			at[i] = k
		} else if was.Cold == nil {
			x.Notes = append(x.Notes, fmt.Sprintf("%s is no longer in the project", f.Name))
		}
	}
	for _, c := range was.Changes {
		if c.Function >= 0 {
			k, ok := at[c.Function]
			if !ok {
				continue
			}
			c.Function = k
		}
		x.Drill.Changes = append(x.Drill.Changes, c)
	}
	for _, text := range r.Budgets {
		b, err := measure.ParseBudget(text)
		known := err == nil && (b.Of == "project" || b.Of == "function" && d.Whole.FunctionNamed(strings.TrimSuffix(b.Name, plan.DroppedMark)) >= 0 || d.SourceNamed(b.Name) >= 0)
		if !known {
			x.Notes = append(x.Notes, fmt.Sprintf("the budget “%s” is left out", text))
			continue
		}
		x.Drill.Budgets = append(x.Drill.Budgets, plan.Budget{Text: text})
	}
	return nil
}

// setsOf makes payload sets of what a run kept.
func (d *Desk) setsOf(r *measure.Run, x *Replay) (sets []payload.Set, err error) {
	place := map[string]int{}
	lost := 0
	outside := r.Outside()
	for i := range r.Payloads {
		of := &r.Payloads[i]
		source, sent := outside[int32(i)]
		if !sent {
			continue
		}
		k, ok := place[of.Set]
		if !ok {
			k = len(sets)
			place[of.Set] = k
			sets = append(sets, payload.Set{Name: of.Set, Origin: "run " + r.ID})
			if today := d.setNamed(of.Set); today != nil {
				sets[k].Expect = today.Expect
			}
		}
		for len(sets[k].Payloads) < of.N {
			sets[k].Payloads = append(sets[k].Payloads, payload.Payload{Event: &event.Event{ID: "0", Source: "/", Type: "left.out"}})
		}
		var text []byte
		if of.Blob > 0 {
			if text, err = d.Runs.Blob(r.ID, of.Blob); err != nil {
				return nil, fmt.Errorf("payload %s#%d of run %s: %w", of.Set, of.N, r.ID, err)
			}
		}
		today := d.payloadOfToday(of.Set, of.N)
		if today != nil && (text == nil && today.Label() == of.Label || bytes.Equal(drive.EventText(today), text)) {
			sets[k].Payloads[of.N-1] = *today
			continue
		}
		if text == nil {
			return nil, fmt.Errorf("payload %s#%d (%s) was too large to be kept with run %s, and is not in the project any more", of.Set, of.N, of.Label, r.ID)
		}
		p, err := payload.ParseText(text, r.Sources[source].Kind == "http")
		if err != nil {
			return nil, fmt.Errorf("payload %s#%d of run %s cannot be read: %w", of.Set, of.N, r.ID, err)
		}
		if p.Request != nil {
			before := len(p.Request.Header)
			p.Request.Header = slices.DeleteFunc(p.Request.Header, func(h event.Field) bool { return h.Value == carry.LeftOut })
			if len(p.Request.Header) < before {
				lost++
			}
		}
		if of.Object > 0 {
			if p, err = withObject(p, d, r, of.Object); err != nil {
				return nil, err
			}
		}
		sets[k].Payloads[of.N-1] = p
	}
	if lost > 0 {
		x.Notes = append(x.Notes, fmt.Sprintf("%s sent without headers that are secret: the run did not keep them, and the payload sets of today do not hold the same requests", Plural(lost, "request is")))
	}
	return sets, nil
}

// withObject puts the bytes of an object where its event becomes one again.
func withObject(p payload.Payload, d *Desk, r *measure.Run, number int32) (payload.Payload, error) {
	o, ok := event.ObjectOf(p.Event)
	if !ok {
		return p, nil
	}
	data, err := d.Runs.Blob(r.ID, number)
	if err != nil {
		return p, fmt.Errorf("the object %s of run %s: %w", o.Key, r.ID, err)
	}
	if _, err := d.Objects.Keep(o.Bucket, o.Key, o.ContentType, data); err != nil {
		return p, fmt.Errorf("the object %s cannot be stored: %w", o.Key, err)
	}
	return p, nil
}

func (d *Desk) setNamed(name string) *payload.Set {
	if i := slices.IndexFunc(d.Sets, func(s payload.Set) bool { return s.Name == name }); i >= 0 {
		return &d.Sets[i]
	}
	return nil
}

func (d *Desk) payloadOfToday(set string, n int) *payload.Payload {
	if s := d.setNamed(set); s != nil && n <= len(s.Payloads) {
		return &s.Payloads[n-1]
	}
	return nil
}

// moments makes the feeds of a replay: one for each source and set.
func (x *Replay) moments(d *Desk, r *measure.Run, place map[string]int) error {
	feeds := map[[2]int]*plan.Feed{}
	copies := map[int64][]time.Duration{}
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.Origin == engine.FromFault && a.From >= 0 {
			copies[a.From] = append(copies[a.From], a.Delay-r.Arrivals[a.From].Delay)
		}
	}
	var order [][2]int
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		if a.From >= 0 {
			continue
		}
		name := r.Sources[a.Source].Name
		source := d.SourceNamed(name)
		if source < 0 {
			return fmt.Errorf("the source %s of run %s is no longer in the project", name, r.ID)
		}
		of := &r.Payloads[a.Payload]
		k := [2]int{source, place[of.Set]}
		if feeds[k] == nil {
			feeds[k] = &plan.Feed{Source: source, Set: k[1]}
			order = append(order, k)
		}
		feeds[k].Moments = append(feeds[k].Moments, plan.Moment{Due: time.Duration(a.Due), Payload: of.N - 1, Round: int(a.Round),
			Fate: fault.Fate{Kinds: a.Fault, Delay: a.Delay, Copies: copies[int64(i)], AckLost: a.Fault&fault.AckLost != 0}})
	}
	if len(order) == 0 {
		return fmt.Errorf("nothing arrived in run %s, so there is nothing to replay", r.ID)
	}
	for _, k := range order {
		f := feeds[k]
		slices.SortStableFunc(f.Moments, func(a, b plan.Moment) int { return cmp.Compare(a.Due, b.Due) })
		x.Drill.Feeds = append(x.Drill.Feeds, *f)
	}
	return nil
}

// cold makes the feeds of a drill of cold starts again.
func (x *Replay) cold(d *Desk, r *measure.Run, place map[string]int) error {
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		name, _, _ := strings.Cut(r.Sources[a.Source].Name, " to ")
		source := d.SourceNamed(name)
		if source < 0 {
			return fmt.Errorf("the source %s of run %s is no longer in the project", name, r.ID)
		}
		set := place[r.Payloads[a.Payload].Set]
		if slices.ContainsFunc(x.Drill.Feeds, func(f plan.Feed) bool { return f.Source == source && f.Set == set }) {
			continue
		}
		x.Drill.Feeds = append(x.Drill.Feeds, plan.Feed{Source: source, Set: set})
	}
	return nil
}
