package record

import (
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
)

// Each visits the records of one kind with their places, in the order in which they were made: those that are wanted
// by their places and invocations (0 where a record has none), or all where want is nil. Want may be called by several
// goroutines, and while visit is.
type Each[T any] func(want func(place int, invocation uint64) bool, visit func(place int, record *T)) error

// Reader is where the records of a run come from, as often as they are asked for: from memory, or from where the run
// is kept, block by block.
type Reader struct {
	Head        *Run // the run with its instances, without its other records
	Events      int
	Over        int           // invocations that are
	Dues        Each[Arrival] // of which Due and Payload are read at least
	Arrivals    Each[Arrival]
	Ends        Each[Invocation] // of which what says to whom they belong, how they ended and when is read at least
	Invocations Each[Invocation]
	Attempts    Each[Attempt]
	Deliveries  Each[Delivery]
	Levels      Each[Level]
	Calls       Each[Call]
	Spans       Each[Span]
}

// held returns the records of a run that is held in memory.
func held(r *Run) *Reader {
	taken, over := each(r.Arrivals, nil), each(r.Invocations, func(v *Invocation) uint64 { return v.ID })
	return &Reader{r, len(r.Arrivals), len(r.Invocations), taken, taken, over, over,
		each(r.Attempts, func(a *Attempt) uint64 { return a.Invocation }),
		each(r.Deliveries, func(d *Delivery) uint64 { return d.Invocation }), each(r.Levels, nil),
		each(r.Calls, func(c *Call) uint64 { return c.Invocation }),
		each(r.Spans, func(x *Span) uint64 { return x.Invocation })}
}

func each[T any](all []T, of func(*T) uint64) Each[T] {
	return func(want func(int, uint64) bool, visit func(int, *T)) error {
		for i := range all {
			id := uint64(0)
			if of != nil {
				id = of(&all[i])
			}
			if want == nil || want(i, id) {
				visit(i, &all[i])
			}
		}
		return nil
	}
}

// passed holds of each invocation, by its ID, whether it passes a filter.
type passed struct {
	there, ok []bool
	done      []clock.Time // when it was; nil where the filter is not about deliveries
	due       []clock.Time // of each event; likewise
	payload   []int32      // of each event; nil where the method of a request does not matter
}

// has reports whether there is a record of an invocation.
func (p *passed) has(id uint64) bool { return id < uint64(len(p.there)) && p.there[id] }

// wanted reports whether a record of an invocation may pass: it does, or there is none that is over.
func (p *passed) wanted(_ int, id uint64) bool { return !p.has(id) || p.ok[id] }

// passes reports whether an invocation is over, and passes.
func (p *passed) passes(_ int, id uint64) bool { return p.has(id) && p.ok[id] }

// passing finds out which invocations pass, except for conditions on deliveries.
func passing(from *Reader, s *sieve) (*passed, error) {
	r, p := from.Head, &passed{}
	about := s.ofDeliveries()
	nth := make([]int, len(r.Instances))
	type beginning struct {
		id uint64
		at clock.Time
	}
	first := make([]beginning, len(r.Instances))
	ids := from.Over + from.Over/64 + 1 // about as many, since most are over
	p.there, p.ok = make([]bool, 0, ids), make([]bool, 0, ids)
	if about {
		p.due, p.done = make([]clock.Time, from.Events), make([]clock.Time, 0, ids)
	}
	if s.method != "" {
		p.payload = make([]int32, from.Events)
	}
	err := together(func() error {
		if !about && s.method == "" {
			return nil
		}
		return from.Dues(nil, func(i int, a *Arrival) {
			if about {
				p.due[i] = a.Due
			}
			if s.method != "" {
				p.payload[i] = a.Payload
			}
		})
	}, func() error {
		return from.Ends(nil, func(_ int, v *Invocation) {
			if need := int(v.ID) + 1 - len(p.there); need > 0 {
				p.there, p.ok = append(p.there, make([]bool, need)...), append(p.ok, make([]bool, need)...)
				if about {
					p.done = append(p.done, make([]clock.Time, need)...)
				}
			}
			known := int(v.Instance) < len(nth)
			n := 0
			if known && v.Result == engine.OK {
				nth[v.Instance]++
				n = nth[v.Instance]
			}
			p.there[v.ID], p.ok[v.ID] = true, s.call(v, n)
			if about {
				p.done[v.ID] = v.Done
			}
			if x := (beginning{v.ID, v.Assigned}); known && (first[v.Instance].id == 0 || x.at < first[v.Instance].at) {
				first[v.Instance] = x
			}
		})
	})
	if s.starts() {
		of := p.ok
		p.ok = make([]bool, len(of))
		for i := range first {
			in := &r.Instances[i]
			took := in.Ready.Sub(in.Spawned)
			if id := first[i].id; id > 0 && of[id] && in.Ready > 0 && took >= s.f.StartFrom && took < s.f.StartTo {
				p.ok[id] = true
			}
		}
	}
	if s.method != "" {
		err = errors.Join(err, from.Attempts(nil, func(_ int, a *Attempt) {
			if p.has(a.Invocation) && !p.hasMethod(r, a.Source, a.Wire, a.Event, s.method) {
				p.ok[a.Invocation] = false
			}
		}))
	}
	return p, err
}

// delivery reports whether a delivery passes that an invocation ended.
func (p *passed) delivery(s *sieve, d *Delivery) bool {
	return s.delivery(d, p.done[d.Invocation].Sub(p.due[d.Event]))
}

// hasMethod reports whether an event is a request with a method, or came by a wire that
// does not take any.
func (p *passed) hasMethod(r *Run, source, wire int32, event int64, method string) bool {
	routes := r.Sources[source].Routes
	if wire < 0 || int(wire) >= len(routes) || !strings.HasPrefix(routes[wire], "any ") ||
		int(event) >= len(p.payload) || int(p.payload[event]) >= len(r.Payloads) {
		return true
	}
	return strings.HasPrefix(r.Payloads[p.payload[event]].Label, method+" ")
}

// together does two things at the same time.
func together(one, other func() error) error {
	var wg sync.WaitGroup
	var first error
	wg.Go(func() { first = one() })
	second := other()
	wg.Wait()
	return errors.Join(first, second)
}

// Filter returns the part of the run that a filter selects, as a run. Its events have new numbers;
// invocations and instances keep theirs. The run itself is not changed.
func (r *Run) Filter(f Filter) *Run {
	out, _ := Sift(held(r), f) // of what is in memory it cannot fail
	return out
}

// Sift is Filter for a run that need not be in memory; what is selected is.
func Sift(from *Reader, f Filter) (*Run, error) {
	r := from.Head
	s := r.sieve(f)
	p, err := passing(from, s)
	if err != nil {
		return nil, err
	}
	out := *r
	out.Filtered = true
	out.Arrivals, out.Invocations, out.Attempts, out.Deliveries, out.Levels, out.Open = nil, nil, nil, nil, nil, nil
	out.Calls, out.Spans = nil, nil
	about := s.ofDeliveries()
	kept := make([]bool, from.Events)
	ofDeliveries := func() error {
		ends, n := make([]bool, len(p.ok)), 0 // a delivery that passes, and about how many do
		if !about {
			n = count(p.ok)
		}
		out.Deliveries = make([]Delivery, 0, n)
		err := from.Deliveries(p.wanted, func(_ int, d *Delivery) {
			if int(d.Event) >= len(kept) || f.Outcome != "" && d.Outcome.String() != f.Outcome {
				return
			}
			ok := false
			if p.has(d.Invocation) {
				ok = p.ok[d.Invocation] && (!about || p.delivery(s, d))
				ends[d.Invocation] = ends[d.Invocation] || ok
			} else if !s.ofCalls && s.wire(d.Source, d.Wire) && s.in(d.Ended) {
				ok = (s.method == "" || p.hasMethod(r, d.Source, d.Wire, d.Event, s.method)) && d.Wire >= 0 &&
					s.functions[r.Sources[d.Source].To[d.Wire]] || d.Wire < 0 && f.Function == "" && f.Variant == ""
			}
			if ok {
				out.Deliveries = append(out.Deliveries, *d)
				kept[d.Event] = true
			}
		})
		if about {
			p.ok = ends
		}
		return err
	}
	called := make([]bool, len(r.Instances))
	ofInvocations := func() error {
		out.Invocations = make([]Invocation, 0, count(p.ok))
		return from.Invocations(p.passes, func(_ int, v *Invocation) {
			out.Invocations = append(out.Invocations, *v)
			if int(v.Instance) < len(called) {
				called[v.Instance] = true
			}
		})
	}
	ofEvents := func() error {
		out.Attempts = make([]Attempt, 0, count(p.ok))
		err := from.Attempts(p.wanted, func(_ int, a *Attempt) { // those that failed of events that are kept, too
			if int(a.Event) >= len(kept) {
				return
			}
			if there := p.has(a.Invocation); there && p.ok[a.Invocation] || !there && kept[a.Event] && !s.ofCalls {
				out.Attempts = append(out.Attempts, *a)
				kept[a.Event] = true
			}
		})
		number := make([]int32, len(kept)) // in the part, or -1; of what is held in memory there are not more
		for i := range number {
			number[i] = -1
		}
		out.Arrivals = make([]Arrival, 0, count(kept))
		wanted := func(i int, _ uint64) bool { return kept[i] }
		err = errors.Join(err, from.Arrivals(wanted, func(i int, a *Arrival) {
			number[i] = int32(len(out.Arrivals))
			out.Arrivals = append(out.Arrivals, *a)
			if a.From >= 0 {
				out.Arrivals[number[i]].From = int64(number[a.From])
			}
		}))
		for i := range out.Deliveries {
			out.Deliveries[i].Event = int64(number[out.Deliveries[i].Event])
		}
		for i := range out.Attempts {
			out.Attempts[i].Event = int64(number[out.Attempts[i].Event])
		}
		return err
	}
	if about { // which invocations pass is known only then
		if err := ofDeliveries(); err != nil {
			return nil, err
		}
		p.done, p.due = nil, nil
		err = together(ofInvocations, ofEvents)
	} else {
		err = together(ofInvocations, func() error { return errors.Join(ofDeliveries(), ofEvents()) })
	}
	out.Instances = slices.Clone(r.Instances)
	for i := range out.Instances {
		in := &out.Instances[i]
		there := in.Function >= 0 && s.functions[in.Function] && time.Duration(r.End(in)) >= f.From &&
			(f.To == 0 || time.Duration(in.Spawned) < f.To)
		if !there || (s.ofCalls || f.Source != "" || f.Route != "" || f.Outcome != "") && !called[i] {
			out.Instances[i] = Instance{ID: in.ID, Function: -1}
		}
	}
	err = errors.Join(err, from.Levels(nil, func(_ int, l *Level) {
		if s.functions[l.Function] && s.in(l.At) {
			out.Levels = append(out.Levels, *l)
		}
	}), from.Calls(p.wanted, func(_ int, c *Call) {
		if there := p.has(c.Invocation); there && p.ok[c.Invocation] ||
			!there && !s.ofCalls && s.functions[c.Function] && s.in(c.Done) {
			out.Calls = append(out.Calls, *c)
		}
	}), from.Spans(p.wanted, func(_ int, x *Span) {
		if p.has(x.Invocation) && p.ok[x.Invocation] {
			out.Spans = append(out.Spans, *x)
		}
	}))
	out.Budgets = nil // they are about the whole run
	return &out, err
}

func count(of []bool) (n int) {
	for _, is := range of {
		if is {
			n++
		}
	}
	return n
}
