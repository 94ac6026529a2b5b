package session

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/session/kept"
)

// ReplayOf makes a drill from a run: the same events, from the bytes that the run kept, at the same
// times, to be run against today's code. Where today's payload sets contain the same bytes, those
// are used, since they have the secrets, which the run does not. The notes name what differs.
func (d *Workspace) ReplayOf(r *record.Run) (drill *plan.Drill, notes []string, err error) {
	var was kept.Manifest
	if len(r.Plan) == 0 || json.Unmarshal(r.Plan, &was) != nil {
		return nil, nil, fmt.Errorf("run %s was recorded by an older version without its plan, and cannot be replayed",
			r.ID)
	}
	x := &replay{d: d, r: r, drill: &plan.Drill{Name: r.Drill, Seed: r.Seed, Settle: was.Settle,
		Idempotence: was.Idempotence, Concurrency: was.Concurrency, Again: r.ID, Cold: was.Cold},
		place: map[string]int{}}
	x.limits(&was)
	if err := x.sets(); err != nil {
		return nil, nil, err
	}
	if was.Cold != nil {
		err = x.cold()
	} else {
		err = x.moments()
	}
	return x.drill, x.notes, err
}

// replay is a drill that is being made from a run.
type replay struct {
	d     *Workspace
	r     *record.Run
	drill *plan.Drill
	place map[string]int // of the run's sets, after the project's
	notes []string
}

func (x *replay) note(format string, args ...any) {
	x.notes = append(x.notes, fmt.Sprintf(format, args...))
}

// limits takes over the limits, their changes and the budgets, as far as the functions still exist.
func (x *replay) limits(was *kept.Manifest) {
	for i := range x.d.Functions {
		x.drill.Limits = append(x.drill.Limits, x.d.Functions[i].Limits)
	}
	at := map[int]int{}
	for i, f := range was.Functions {
		if k := x.d.FunctionNamed(f.Name); k >= 0 && i < len(was.Limits) {
			x.drill.Limits[k] = was.Limits[i]
			at[i] = k
		} else if was.Cold == nil {
			x.note("%s is no longer in the project", f.Name)
		}
	}
	x.drill.Marks = x.r.Marks
	for _, c := range was.Changes {
		if c.Function >= 0 {
			k, ok := at[c.Function]
			if !ok {
				continue
			}
			c.Function = k
		}
		x.drill.Changes = append(x.drill.Changes, c)
	}
	for _, text := range x.r.Budgets {
		b, err := measure.ParseBudget(text)
		known := err == nil && (b.Of == "project" || b.Of == "function" &&
			x.d.Whole.FunctionNamed(strings.TrimSuffix(b.Name, plan.DroppedMark)) >= 0 || x.d.SourceNamed(b.Name) >= 0)
		if !known {
			x.note("the budget “%s” is left out", text)
			continue
		}
		x.drill.Budgets = append(x.drill.Budgets, plan.Budget{Text: text})
	}
}

// sets makes payload sets from what the run kept.
func (x *replay) sets() error {
	lost := 0
	outside := x.r.Outside()
	for i := range x.r.Payloads {
		source, sent := outside[int32(i)]
		if !sent {
			continue
		}
		of := &x.r.Payloads[i]
		k, ok := x.place[of.Set]
		if !ok {
			k = len(x.d.Sets) + len(x.drill.Sets)
			x.place[of.Set] = k
			set := payload.Set{Name: of.Set, Origin: "run " + x.r.ID}
			if today := x.d.SetNamed(of.Set); today >= 0 {
				set.Expect = x.d.Sets[today].Expect
			}
			x.drill.Sets = append(x.drill.Sets, set)
		}
		set := &x.drill.Sets[k-len(x.d.Sets)]
		for len(set.Payloads) < of.N { // of those that were not sent, nothing is needed
			set.Payloads = append(set.Payloads, payload.Payload{Event: &event.Event{ID: "0", Source: "/",
				Type: "left.out"}})
		}
		p, without, err := x.payload(of, x.r.Sources[source].Kind == "http")
		if err != nil {
			return fmt.Errorf("payload %s#%d of run %s: %w", of.Set, of.N, x.r.ID, err)
		}
		if without {
			lost++
		}
		set.Payloads[of.N-1] = *p
	}
	if lost > 0 {
		x.note("%s sent without their secret headers and parameters: the run did not keep them, and today's "+
			"payload sets do not contain the same requests",
			text.Plural(lost, "request is"))
	}
	return nil
}

// payload returns a payload of the run: today's if it is the same, or what the run kept of it.
// without reports that headers or parameters are missing.
func (x *replay) payload(of *record.Payload, http bool) (p *payload.Payload, without bool, err error) {
	var text []byte
	if of.Blob > 0 {
		if text, err = x.d.Runs.Blob(x.r.ID, of.Blob); err != nil {
			return nil, false, err
		}
	}
	today := explain.PayloadOf(x.d.Project, of)
	if today != nil && (text == nil && today.Label() == of.Label || bytes.Equal(runner.EventText(today), text)) {
		return today, false, nil
	}
	if text == nil {
		return nil, false, fmt.Errorf("%s was too large to be kept, and is no longer in the project", of.Label)
	}
	kept, err := payload.ParseText(text, http)
	if err != nil {
		return nil, false, err
	}
	if kept.Request != nil {
		all := len(kept.Request.Header)
		kept.Request.Header = slices.DeleteFunc(kept.Request.Header,
			func(h event.Field) bool { return h.Value == transport.LeftOut })
		kept.Request.Target, without = payload.WithoutHidden(kept.Request.Target)
		without = without || len(kept.Request.Header) < all
	}
	if of.Object == 0 || kept.Event == nil {
		return &kept, without, nil
	}
	if o, ok := event.ObjectOf(kept.Event); ok {
		x.drill.Kept = append(x.drill.Kept, plan.KeptObject{Bucket: o.Bucket, Key: o.Key, ContentType: o.ContentType,
			Blob: of.Object})
	}
	return &kept, without, nil
}

// source returns today's index of a source of the run.
func (x *replay) source(name string) (int, error) {
	at := x.d.SourceNamed(name)
	if at < 0 {
		return at, fmt.Errorf("the source %s of run %s is no longer in the project", name, x.r.ID)
	}
	return at, nil
}

// moments makes the feeds of a replay: one for each source and set.
func (x *replay) moments() error {
	r := x.r
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
		if !a.Offered() {
			continue
		}
		source, err := x.source(r.Sources[a.Source].Name)
		if err != nil {
			return err
		}
		of := &r.Payloads[a.Payload]
		k := [2]int{source, x.place[of.Set]}
		if feeds[k] == nil {
			feeds[k] = &plan.Feed{Source: source, Set: k[1]}
			order = append(order, k)
		}
		feeds[k].Moments = append(feeds[k].Moments, plan.Moment{Due: time.Duration(a.Due - x.r.Begins),
			Payload: of.N - 1,
			Round:   int(a.Round),
			Fate: fault.Fate{Kinds: a.Fault, Delay: a.Delay, Copies: copies[int64(i)],
				AckLost: a.Fault&fault.AckLost != 0}})
	}
	if len(order) == 0 {
		return fmt.Errorf("nothing arrived in run %s, so there is nothing to replay", r.ID)
	}
	for _, k := range order {
		f := feeds[k]
		slices.SortStableFunc(f.Moments, func(a, b plan.Moment) int { return cmp.Compare(a.Due, b.Due) })
		x.drill.Feeds = append(x.drill.Feeds, *f)
	}
	return nil
}

// cold makes the feeds of a drill of cold starts again.
func (x *replay) cold() error {
	for i := range x.r.Arrivals {
		a := &x.r.Arrivals[i]
		name, _, _ := strings.Cut(x.r.Sources[a.Source].Name, " to ")
		source, err := x.source(name)
		if err != nil {
			return err
		}
		set := x.place[x.r.Payloads[a.Payload].Set]
		if !slices.ContainsFunc(x.drill.Feeds, func(f plan.Feed) bool { return f.Source == source && f.Set == set }) {
			x.drill.Feeds = append(x.drill.Feeds, plan.Feed{Source: source, Set: set})
		}
	}
	return nil
}
