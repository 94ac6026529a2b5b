package forecast

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

// Traffic is which events are simulated.
type Traffic struct {
	Times float64       // as many, and as many callers; 0 for 1
	Drill *plan.Drill   // whose feeds send them; nil for the events of the run
	For   time.Duration // for which they are repeated; 0 for once
}

// InTime reports whether events come at about the times of the run, so that what the drill changes meanwhile is changed
// at its times, too.
func (t *Traffic) InTime() bool { return t.Drill == nil && t.For == 0 }

// offers is the traffic of simulations. It is made once and read by all of them.
type offers struct {
	b      *Base
	times  float64
	laid   []laidOut   // events at the times of the run, in order
	drill  *plan.Drill // of which these feeds send by their own schedules
	feeds  []int
	forms  map[formsOf][]form
	period clock.Time // of one repetition
	until  clock.Time // when the last one ends; 0 for one alone
	inTime bool       // as Traffic.InTime
}

// laidOut is when an event of the run falls due in the simulation.
type laidOut struct {
	due   clock.Time
	event int32
}

// formsOf is a set of payloads as a source takes them.
type formsOf struct {
	source int
	set    string
}

// form is what is known of a payload: where it goes, and which events of the run stand for it.
type form struct {
	itself bool // the source answers it, so that no event comes of it
	takes  uint64
	key    int32
	delay  time.Duration
	async  bool
	like   []int32
}

// newOffers lays traffic out. The error says what of it the run does not tell.
func (b *Base) newOffers(t Traffic) (*offers, error) {
	o := &offers{b: b, times: t.Times, drill: t.Drill, until: clock.Time(t.For), inTime: t.InTime(),
		forms: map[formsOf][]form{}}
	if o.times == 0 {
		o.times = 1
	}
	closed := func(source int) bool { return b.Run.Sources[source].Closed }
	if o.drill == nil {
		o.drill = b.drill
		for i := range o.drill.Feeds {
			if closed(o.drill.Feeds[i].Source) {
				o.feeds = append(o.feeds, i)
			}
		}
		o.layOut(closed)
	} else {
		for i := range o.drill.Feeds {
			o.feeds = append(o.feeds, i)
		}
	}
	for _, i := range o.feeds {
		if err := o.feed(i); err != nil {
			return nil, err
		}
	}
	for _, f := range o.drill.Feeds {
		if f.Set >= 0 || f.Clock != nil || f.Live > 0 {
			o.period = max(o.period, clock.Time(b.Project.Span(&f)))
		}
	}
	if o.until > 0 && o.period < clock.Time(time.Millisecond) {
		return nil, errors.New("all events fall due at one moment: there is nothing to repeat")
	}
	return o, nil
}

// layOut lays out the events of the run that came at times of their own: as many times as many, between them.
func (o *offers) layOut(closed func(source int) bool) {
	var offered []int
	for i := range o.b.events {
		if e := &o.b.events[i]; e.outside && !closed(e.source) {
			offered = append(offered, i)
		}
	}
	slices.SortStableFunc(offered, func(i, k int) int { return int(o.b.events[i].due - o.b.events[k].due) })
	n := int(float64(len(offered))*o.times + 0.5)
	for k := range n {
		place := float64(k) / o.times
		i := min(int(place), len(offered)-1)
		due := o.b.events[offered[i]].due
		if i+1 < len(offered) {
			due += clock.Time((place - float64(i)) * float64(o.b.events[offered[i+1]].due-due))
		}
		o.laid = append(o.laid, laidOut{max(due, 0), int32(offered[i])})
	}
	slices.SortStableFunc(o.laid, func(a, b laidOut) int { return int(a.due - b.due) })
	if n > 1 { // the next repetition begins as long after the last event as events are apart
		last := o.laid[n-1].due
		o.period = last + last/clock.Time(n-1)
	}
}

// feed learns where the payloads of a feed go, and which events of the run stand for them.
func (o *offers) feed(i int) error {
	b, f := o.b, &o.drill.Feeds[i]
	if len(f.Moments) > 0 {
		return fmt.Errorf("drill %s replays a run, whose events are not forecast", o.drill.Name)
	}
	if f.Live > 0 {
		return fmt.Errorf("drill %s gets messages of a broker while it runs, which are not known before", o.drill.Name)
	}
	src := &b.Project.Sources[f.Source]
	if f.Faults.Any() {
		return fmt.Errorf("the feed of %s in drill %s has faults, and its events come by a schedule of their own; "+
			"faults are forecast for recorded events alone", src.Name, o.drill.Name)
	}
	all, _ := b.Project.Offers(o.drill, i, o.drill.Seed)
	sorter := b.Project.NewSorter()
	for k := range all {
		set := all[k].Payloads(b.Project)
		at := formsOf{f.Source, set.Name}
		if o.forms[at] != nil || len(set.Payloads) == 0 {
			continue
		}
		forms := make([]form, len(set.Payloads))
		bySet, byTakes := map[int][]int32{}, map[uint64][]int32{} // events of the run
		for n := range b.events {
			e := &b.events[n]
			if e.source != f.Source || !e.outside {
				continue
			}
			byTakes[e.takes] = append(byTakes[e.takes], int32(n))
			if int(e.payload) < len(b.Run.Payloads) && b.Run.Payloads[e.payload].Set == set.Name {
				at := b.Run.Payloads[e.payload].N - 1
				bySet[at] = append(bySet[at], int32(n))
			}
		}
		for n := range forms {
			x, pl := &forms[n], &set.Payloads[n]
			*x = form{itself: b.Project.Itself(f.Source, pl), takes: b.Project.Routes(f.Source, pl),
				key: sorter.Key(f.Source, pl), delay: src.DelayOf(pl), async: pl.Async(), like: bySet[n]}
			if x.itself || x.takes == 0 {
				continue
			}
			if len(x.like) == 0 {
				x.like = byTakes[x.takes]
			}
			if len(x.like) == 0 && src.Divides() {
				for _, like := range byTakes {
					x.like = append(x.like, like...)
				}
				slices.Sort(x.like)
			}
			if len(x.like) == 0 {
				return fmt.Errorf("run %s has no event of %s that went the way of %s; carry drill %s out once, and "+
					"forecast from that run", b.Run.ID, src.Name, payload.Short(pl.Label(), 60), o.drill.Name)
			}
		}
		o.forms[at] = forms
	}
	return nil
}

// events returns about how many events one simulation has; callers count as their rate allows, or as often as they
// came in the run.
func (o *offers) events() float64 {
	n := float64(len(o.laid))
	for _, i := range o.feeds {
		f := &o.drill.Feeds[i]
		if f.Clock != nil {
			all, _ := o.b.Project.Offers(o.drill, i, 1)
			n += float64(len(all[0].Payloads(o.b.Project).Payloads))
			continue
		}
		for k := range f.Phases {
			p := o.scaled(f.Phases[k])
			switch x := p.Expected(); {
			case x > 0:
				n += x
			case p.Pattern == arrival.Callers:
				n += o.b.answersOf(f.Source) * float64(p.Size) * p.For.Seconds()
			default:
				n += float64(len(o.b.Project.Sets[f.Set].Payloads))
			}
		}
	}
	if o.until > 0 {
		n *= math.Ceil(float64(o.until) / float64(o.period))
	}
	return n
}

// answersOf returns how many replies a caller of a source can have in a second, at the mean of the run.
func (b *Base) answersOf(source int) float64 {
	sum, n := 0.0, 0
	for i := range b.Run.Invocations {
		if v := &b.Run.Invocations[i]; int(v.Source) == source {
			sum, n = sum+v.Done.Sub(v.Assigned).Seconds(), n+1
		}
	}
	if sum == 0 {
		return 1
	}
	return float64(n) / sum
}

// scaled returns a phase with as many times as many events.
func (o *offers) scaled(p arrival.Phase) arrival.Phase {
	if o.times == 1 {
		return p
	}
	faster := func(r arrival.Rate) arrival.Rate {
		if r.Events == 0 {
			return r
		}
		// in thousandths of an event, so that small rates keep their share
		return arrival.Rate{Events: max(int(float64(r.Events)*o.times*1000+0.5), 1), Per: r.Per * 1000}
	}
	p.Rate, p.To = faster(p.Rate), faster(p.To)
	if p.Size > 0 {
		p.Size = max(int(float64(p.Size)*o.times+0.5), 1)
	}
	return p
}

// stream is the traffic of one simulation.
type stream struct {
	*offers
	next  int // of what is laid out
	round int // repetition
	from  clock.Time
	open  []openFeed
	found int // what peek found: the feed that has the next event; -1 for what is laid out
	due   clock.Time
}

// openFeed is a feed that sends by its schedule.
type openFeed struct {
	plan.Offer
	forms []form
	set   *payload.Set
}

// offered is an event that falls due.
type offered struct {
	due    clock.Time // since the first could
	like   int32      // event of the run; -1 for none
	source int
	takes  uint64
	key    int32
	delay  time.Duration
	async  bool
	caller caller
}

// caller is who waits for the reply to an event.
type caller struct {
	feed  int32 // -1 for none
	round int32 // repetition
	n     int
}

var noCaller = caller{feed: -1}

func (o *offers) stream() *stream {
	s := &stream{offers: o}
	s.begin()
	return s
}

// begin begins a repetition.
func (s *stream) begin() {
	s.next, s.open = 0, s.open[:0]
	for _, i := range s.feeds {
		d := *s.drill
		if s.times != 1 {
			f := d.Feeds[i]
			f.Phases = slices.Clone(f.Phases)
			for k := range f.Phases {
				f.Phases[k] = s.scaled(f.Phases[k])
			}
			d.Feeds = slices.Clone(d.Feeds)
			d.Feeds[i] = f
		}
		all, _ := s.b.Project.Offers(&d, i, s.drill.Seed+uint64(s.round))
		for k := range all {
			set := all[k].Payloads(s.b.Project)
			s.open = append(s.open, openFeed{all[k], s.forms[formsOf{all[k].Source, set.Name}], set})
		}
	}
}

// peek returns when the next event falls due, clock.Never where a caller must have its reply first, and false where
// none will. now is the time of the simulation since events could fall due.
func (s *stream) peek(now clock.Time) (due clock.Time, more bool) {
	for {
		s.found, s.due, more = s.first(now)
		if due = s.due; more {
			if s.until > 0 && due != clock.Never && due >= s.until {
				return 0, false
			}
			return due, true
		}
		if s.until == 0 || s.from+s.period >= s.until {
			return 0, false
		}
		s.from += s.period
		s.round++
		s.begin()
	}
}

// first finds which feed has the next event: -1 for what is laid out.
func (s *stream) first(now clock.Time) (feed int, due clock.Time, more bool) {
	feed, due = -1, clock.Never
	if s.next < len(s.laid) {
		due, more = s.laid[s.next].due+s.from, true
	}
	for i := range s.open {
		a, state := s.open[i].Peek(now - s.from)
		switch {
		case state == arrival.Over:
		case state == arrival.Due && a.Due+s.from < due:
			feed, due, more = i, a.Due+s.from, true
		default:
			more = true
		}
	}
	return feed, due, more
}

// take takes the event that peek found; ok is false where it turns out that none comes of it.
func (s *stream) take(now clock.Time) (e offered, ok bool) {
	i, due := s.found, s.due
	if i < 0 {
		at := s.laid[s.next].event
		s.next++
		of := &s.b.events[at]
		return offered{due, at, of.source, of.takes, of.key, of.delay, of.async, noCaller}, true
	}
	f := &s.open[i]
	a, _ := f.Peek(now - s.from)
	f.Take()
	x := &f.forms[f.First+a.Payload]
	who := noCaller
	if a.Caller >= 0 {
		who = caller{int32(i), int32(s.round), a.Caller}
	}
	if x.itself {
		s.answered(who, due.Add(time.Millisecond))
		return offered{}, false
	}
	e = offered{due, -1, f.Source, x.takes, x.key, x.delay, x.async, who}
	number := int32(f.First + a.Payload)
	if n := len(x.like); n > 0 {
		e.like = x.like[a.Round%n]
		number = s.b.events[e.like].payload // as the run numbered it
	}
	e.takes = s.b.Project.DividePayload(f.Source, x.takes, s.drill.Seed, &f.set.Payloads[f.First+a.Payload], number,
		a.Round)
	return e, true
}

// answered lets a caller send again from a time on.
func (s *stream) answered(c caller, at clock.Time) {
	if c.feed >= 0 && int(c.round) == s.round {
		s.open[c.feed].Answered(c.n, at-s.from)
	}
}
