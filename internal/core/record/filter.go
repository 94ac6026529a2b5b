package record

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
)

// Filter selects a part of a run. What is empty does not select.
type Filter struct {
	Function string // with all of its variants, unless it is written with one: quote@node
	Variant  string // of any function; "-" for none
	Source   string
	Route    string
	Class    string        // cold, first, warm, or retried: of deliveries that took several attempts
	Status   string        // 200, 4xx, none
	Outcome  string        // done, failed, …
	From, To time.Duration // when it was done, since the run began; To 0 for no end
	Longer   time.Duration // latency of a delivery, from this on; with a class, of those that it has in the figures
	Shorter  time.Duration // and up to this; 0 for no bound
	// StartFrom and StartTo select the first invocations of instances whose start took from
	// so long up to so long; StartTo is 0 where starts do not matter.
	StartFrom, StartTo time.Duration
	First              int // n-th invocations of their instance, from this on, from 1
	Last               int // and up to this
}

// filterKeys lists the words of a filter, in the order in which they are written.
var filterKeys = []string{"function", "variant", "source", "route", "class", "status", "outcome", "from", "to",
	"longer", "shorter", "nth", "start"}

// statuses are one HTTP status, or a class of them such as 4xx (RFC 9110 §15).
type statuses struct{ exact, class int32 }

func ParseStatuses(text string) (s statuses, ok bool) {
	digits, isClass := strings.CutSuffix(text, "xx")
	n, err := strconv.ParseInt(digits, 10, 32)
	switch {
	case err != nil:
	case isClass:
		return statuses{class: int32(n)}, n >= 1 && n <= 5
	default:
		return statuses{exact: int32(n)}, n >= 100 && n <= 999
	}
	return statuses{}, false
}

func (s statuses) Has(status int32) bool {
	return s.class > 0 && status/100 == s.class || s.class == 0 && status == s.exact
}

// A route is one word of a filter: spaces in it are written as plus signs.
var routeWord, wordRoute = strings.NewReplacer("%", "%25", "+", "%2B", " ", "+"), strings.NewReplacer("%25", "%", "%2B",
	"+", "+", " ")

// ParseFilter reads a filter such as "function=quote class=warm from=2s to=4s". It
// does not know which functions and sources there are.
func ParseFilter(text string) (f Filter, err error) {
	for _, word := range strings.Fields(text) {
		key, value, ok := strings.Cut(word, "=")
		if !ok || value == "" {
			return f, fmt.Errorf("%q is not a condition; write one such as class=warm, with one of %s", word,
				strings.Join(filterKeys, ", "))
		}
		duration := func(to *time.Duration) {
			if *to, err = time.ParseDuration(value); err != nil || *to < 0 {
				err = fmt.Errorf("%s=%q is not a duration, such as 2s or 150ms", key, value)
			}
		}
		switch key {
		case "function":
			f.Function = value
		case "variant":
			f.Variant = value
		case "source":
			f.Source = value
		case "route":
			f.Route = wordRoute.Replace(value)
		case "class":
			if f.Class = value; !slices.Contains(ClassNames, value) {
				err = fmt.Errorf("class=%q; use cold, first, warm or retried", value)
			}
		case "status":
			if _, ok := ParseStatuses(value); !ok && value != "none" {
				err = fmt.Errorf("status=%q; write one such as 200, 4xx, or none", value)
			}
			f.Status = value
		case "outcome":
			if f.Outcome = strings.ReplaceAll(value, "-", "_"); !slices.ContainsFunc(outcomes(),
				func(o string) bool { return o == f.Outcome }) {
				err = fmt.Errorf("outcome=%q; use one of %s", value, strings.Join(outcomes(), ", "))
			}
		case "from":
			duration(&f.From)
		case "to":
			duration(&f.To)
		case "longer":
			duration(&f.Longer)
		case "shorter":
			duration(&f.Shorter)
		case "nth":
			first, last, ranged := strings.Cut(value, "-")
			var e1, e2 error
			f.First, e1 = strconv.Atoi(first)
			if f.Last = f.First; ranged {
				f.Last, e2 = strconv.Atoi(last)
			}
			if e1 != nil || e2 != nil || f.First < 1 || f.Last < f.First {
				err = fmt.Errorf("nth=%q; write one such as 1 or 2-10", value)
			}
		case "start":
			first, last, _ := strings.Cut(value, "-")
			var e1, e2 error
			f.StartFrom, e1 = time.ParseDuration(first)
			f.StartTo, e2 = time.ParseDuration(last)
			if e1 != nil || e2 != nil || f.StartFrom < 0 || f.StartTo <= f.StartFrom {
				err = fmt.Errorf("start=%q; write one such as 100ms-2s", value)
			}
		default:
			err = fmt.Errorf("unknown condition %q; available: %s", key, strings.Join(filterKeys, ", "))
		}
		if err != nil {
			return f, err
		}
	}
	if f.To > 0 && f.To <= f.From {
		return f, fmt.Errorf("from %v to %v contains nothing", f.From, f.To)
	}
	return f, nil
}

func outcomes() (out []string) {
	for o := range engine.Outcomes {
		out = append(out, o.String())
	}
	return out
}

// String formats the filter as ParseFilter reads it; "" for all.
func (f Filter) String() string {
	var parts []string
	add := func(key, value string) {
		if value != "" && value != "0s" {
			parts = append(parts, key+"="+value)
		}
	}
	add("function", f.Function)
	add("variant", f.Variant)
	add("source", f.Source)
	add("route", routeWord.Replace(f.Route))
	add("class", f.Class)
	add("status", f.Status)
	add("outcome", f.Outcome)
	add("from", f.From.String())
	add("to", f.To.String())
	add("longer", f.Longer.String())
	add("shorter", f.Shorter.String())
	switch {
	case f.First == 0:
	case f.Last == f.First:
		add("nth", strconv.Itoa(f.First))
	default:
		add("nth", fmt.Sprintf("%d-%d", f.First, f.Last))
	}
	if f.StartTo > 0 {
		add("start", f.StartFrom.String()+"-"+f.StartTo.String())
	}
	return strings.Join(parts, " ")
}

// And adds the conditions of another filter, which override those of f.
func (f Filter) And(g Filter) Filter {
	f.Function, f.Variant, f.Source, f.Route = cmp.Or(g.Function, f.Function), cmp.Or(g.Variant, f.Variant),
		cmp.Or(g.Source, f.Source), cmp.Or(g.Route, f.Route)
	f.Class, f.Status, f.Outcome = cmp.Or(g.Class, f.Class), cmp.Or(g.Status, f.Status), cmp.Or(g.Outcome, f.Outcome)
	f.From, f.To, f.Longer, f.Shorter = cmp.Or(g.From, f.From), cmp.Or(g.To, f.To), cmp.Or(g.Longer, f.Longer),
		cmp.Or(g.Shorter, f.Shorter)
	f.First, f.Last = cmp.Or(g.First, f.First), cmp.Or(g.Last, f.Last)
	if g.StartTo > 0 {
		f.StartFrom, f.StartTo = g.StartFrom, g.StartTo
	}
	return f
}

// Unknown returns an error that names what the run does not have, or "".
func (r *Run) Unknown(f Filter) string {
	has := func(name string, of func(i int) string, n int) bool {
		for i := range n {
			if of(i) == name {
				return true
			}
		}
		return false
	}
	base := func(i int) string { return plan.BaseName(r.Functions[i].Name) }
	whole := func(i int) string { return r.Functions[i].Name }
	switch {
	case f.Function != "" && !has(f.Function, base, len(r.Functions)) && !has(f.Function, whole, len(r.Functions)):
		return fmt.Sprintf("the run has no function %q", f.Function)
	case f.Source != "" && !has(f.Source, func(i int) string { return r.Sources[i].Name }, len(r.Sources)):
		return fmt.Sprintf("the run has no source %q", f.Source)
	}
	return ""
}

// filterFunctions reports for each function whether the filter takes it.
func (r *Run) filterFunctions(f Filter) []bool {
	out := make([]bool, len(r.Functions))
	for i := range out {
		base, variant, _ := strings.Cut(r.Functions[i].Name, "@")
		if variant == "" {
			variant = "-"
		}
		out[i] = (f.Function == "" || f.Function == base || f.Function == r.Functions[i].Name) && (f.Variant == "" ||
			f.Variant == variant)
	}
	return out
}

// ClassNames are the classes of invocations and deliveries, as filters and budgets name them.
var ClassNames = []string{"cold", "first", "warm", "retried"}

// sieve is a filter applied to a run.
type sieve struct {
	f         Filter
	functions []bool
	sources   []bool
	routes    [][]bool
	byStatus  bool // only these statuses pass
	statuses  statuses
	method    string // of requests to wires that take any; "" where that does not matter
	ofCalls   bool   // it has conditions that only an invocation can meet
}

func (r *Run) sieve(f Filter) *sieve {
	s := &sieve{f: f, functions: r.filterFunctions(f), ofCalls: f.Class != "" || f.Status != "" || f.First > 0 ||
		f.Longer > 0 || f.Shorter > 0 || f.StartTo > 0}
	for i := range r.Sources {
		s.sources = append(s.sources, f.Source == "" || f.Source == r.Sources[i].Name)
		routes := make([]bool, len(r.Sources[i].To))
		for w := range routes {
			if w < len(r.Sources[i].Routes) && f.Route != "" {
				routes[w] = r.Sources[i].Routes[w] == f.Route
				// a wire that takes any method is a route for each
				method, path, _ := strings.Cut(f.Route, " ")
				if !routes[w] && r.Sources[i].Routes[w] == "any "+path {
					routes[w], s.method = true, method
				}
				continue
			}
			routes[w] = f.Route == ""
		}
		s.routes = append(s.routes, routes)
	}
	s.statuses, s.byStatus = ParseStatuses(f.Status)
	return s
}

func (s *sieve) in(t clock.Time) bool {
	return time.Duration(t) >= s.f.From && (s.f.To == 0 || time.Duration(t) < s.f.To)
}

func (s *sieve) wire(source, wire int32) bool {
	return s.sources[source] && (wire < 0 && s.f.Route == "" || wire >= 0 && int(wire) < len(s.routes[source]) &&
		s.routes[source][wire])
}

// lasts reports whether the filter is about latencies.
func (s *sieve) lasts() bool { return s.f.Longer > 0 || s.f.Shorter > 0 }

// starts reports whether the filter is about starts.
func (s *sieve) starts() bool { return s.f.StartTo > 0 }

// ofDeliveries reports whether the filter has conditions that only a delivery can meet.
func (s *sieve) ofDeliveries() bool {
	return s.f.Outcome != "" || s.f.Class == "retried" || s.lasts()
}

// call reports whether an invocation passes that is the n-th of its instance, except for conditions
// on deliveries.
func (s *sieve) call(v *Invocation, n int) bool {
	switch f := &s.f; {
	case !s.functions[v.Function] || !s.wire(v.Source, v.Wire) || !s.in(v.Done):
	case f.Class != "" && f.Class != "retried" && v.Class.String() != f.Class:
	case f.Status == "none" && v.Status != 0, s.byStatus && !s.statuses.Has(v.Status):
	case f.First > 0 && (n < f.First || n > f.Last):
	default:
		return true
	}
	return false
}

// delivery reports whether a delivery passes that took so long: whether it has the outcome, the latency, and
// the class that it counts in.
func (s *sieve) delivery(d *Delivery, took time.Duration) bool {
	f := &s.f
	switch {
	case f.Outcome != "" && d.Outcome.String() != f.Outcome:
	case f.Longer > 0 && took < f.Longer, f.Shorter > 0 && took >= f.Shorter:
	// has no latency
	case s.lasts() && d.Outcome != engine.Done && d.Outcome != engine.Failed && d.Outcome != engine.DeadLettered:
	case f.Class == "retried" && d.Attempts < 2, s.lasts() && f.Class != "" && f.Class != "retried" && d.Attempts > 1:
	default:
		return true
	}
	return false
}

// Point is a delivery, or an invocation, as the findings list it: with all that it took.
type Point struct {
	Invocation int32 // its place
	Event      int64
	Latency    time.Duration // from due to done
	Wait       time.Duration // from due until it was sent, of its last attempt
	Service    time.Duration // from sent to done
	Attempts   int32         // of the delivery; the number of this one, of an invocation
	Mates      int32         // other deliveries of its invocation
}

// Points returns what a filter selects, at most `most`, the longest first, and the total:
// deliveries where the filter is about these, each with its last invocation; otherwise invocations,
// each with its first event. Where the filter is about the n-th invocations of instances, those
// with the longest service time come first.
func (r *Run) Points(f Filter, most int) (points []Point, n int) {
	s := r.sieve(f)
	p, _ := passing(held(r), s) // of what is in memory it cannot fail
	at := r.Index()
	add := func(event int64, place, attempts int32) {
		v, due := &r.Invocations[place], r.Arrivals[event].Due
		points = append(points, Point{place, event, v.Done.Sub(due), v.Began().Sub(due), v.Done.Sub(v.Began()),
			attempts,
			v.Batch - 1})
	}
	if s.ofDeliveries() {
		for i := range r.Deliveries {
			d := &r.Deliveries[i]
			if p.has(d.Invocation) && p.ok[d.Invocation] && int(d.Event) < len(r.Arrivals) &&
				s.wire(d.Source, d.Wire) && p.delivery(s, d) {
				add(d.Event, at[d.Invocation], d.Attempts)
			}
		}
	} else {
		seen := map[int32]bool{}
		for i := range r.Attempts {
			a := &r.Attempts[i]
			if !p.has(a.Invocation) || int(a.Event) >= len(r.Arrivals) {
				continue
			}
			if place := at[a.Invocation]; p.ok[a.Invocation] && !seen[place] {
				seen[place] = true
				add(a.Event, place, a.N)
			}
		}
	}
	slices.SortStableFunc(points, func(a, b Point) int {
		if f.First > 0 {
			return cmp.Compare(b.Service, a.Service)
		}
		return cmp.Compare(b.Latency, a.Latency)
	})
	n = len(points)
	return points[:min(n, most)], n
}
