package session

import (
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
)

// Whole is closed when a firing is over with all that was made of it: dead
// letters, and replies that were sent on.
func (f *Firing) Whole() <-chan struct{} { return f.whole }

// Trace returns the steps of a firing, the event itself first, then what its
// replies were sent on as, each followed by its own.
func (s *Session) Trace(v *Shown) (out []explain.Step) {
	if v.Trace == nil {
		return nil
	}
	s.mu.Lock()
	p := s.Whole
	now := s.driver.At(time.Now())
	s.mu.Unlock()
	var walk func(t *runner.Trace, depth int)
	walk = func(t *runner.Trace, depth int) {
		if t.Source >= len(p.Sources) {
			return // the project was read again
		}
		out = append(out, explain.StepsOf(p, t, depth, now)...)
		for _, m := range t.Made {
			walk(m, depth+1)
		}
	}
	walk(v.Trace, 0)
	return out
}

// Unmatched returns the unmatched firings that were not offered again, oldest first.
func (s *Session) Unmatched() (out []Shown) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.firings {
		if f.again || f.trace == nil || f.trace.Routes != 0 {
			continue
		}
		if v := s.look(f); v.Over {
			out = append(out, v)
		}
	}
	return out
}

// mostOffered bounds the events of a run that are offered again at once.
const mostOffered = 200

// OfferRunAgain fires those unmatched events of a run that a wire would take now,
// the first of them. It returns how many there were, and how many are taken now.
func (s *Session) OfferRunAgain(r *record.Run) (missed, taken int, err error) {
	s.turn.Lock() // the project stays as it is meanwhile
	defer s.turn.Unlock()
	kept, p := &replay{d: s.Workspace, r: r, drill: &plan.Drill{Again: r.ID}}, s.Plan()
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if d.Outcome != engine.Unmatched || int(d.Event) >= len(r.Arrivals) {
			continue
		}
		missed++
		kept.drill.Kept = nil
		src := &r.Sources[d.Source]
		at := p.SourceNamed(src.Name)
		if at < 0 || taken == mostOffered {
			continue
		}
		pl, _, wrong := kept.payload(&r.Payloads[r.Arrivals[d.Event].Payload], src.Kind == plan.HTTP.String())
		if wrong != nil {
			err = wrong
			continue
		}
		if pl = catalog.AsObject(&p.Sources[at], pl); p.Routes(at, pl) != 0 {
			taken++
			if wrong := s.keepLost(kept.drill); wrong != nil {
				err = wrong
				continue
			}
			s.Fire(Order{Item: &catalog.Item{Source: at, SourceName: src.Name, HTTP: pl.Request != nil,
				Label:   explain.Label(pl),
				Payload: pl}})
		}
	}
	return missed, taken, err
}

// OfferAgain fires those unmatched events again that a wire would take now. It returns how many there
// were, and how many are taken now.
func (s *Session) OfferAgain() (missed, taken int) {
	for _, v := range s.Unmatched() {
		missed++
		s.mu.Lock()
		at := s.Whole.SourceNamed(v.Item.SourceName)
		takes := at >= 0 && s.Whole.Routes(at, v.Sent) != 0
		v.Firing.again = takes
		s.mu.Unlock()
		if takes {
			taken++
			item := *v.Item
			item.Source, item.Payload, item.File = at, v.Sent, ""
			s.Fire(Order{Item: &item, Origin: v.Origin})
		}
	}
	return missed, taken
}

// DeadLetter describes a firing that was dead-lettered: its attempts, and the last reply.
func (v *Shown) DeadLetter() string {
	tries, last := 0, v.Last()
	if last == nil {
		return ""
	}
	for _, t := range v.Trace.Attempts {
		tries = max(tries, int(t.N))
	}
	status, reply := 0, []byte(nil)
	if last.Reply != nil {
		status = last.Reply.Status
		reply, _ = last.Reply.Plain()
	}
	return text.Plural(tries, "attempt") + ", " + explain.Ended(status, last.Result) + explain.Beginning(reply)
}
