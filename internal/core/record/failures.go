package record

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
)

// Failure is a delivery that did not succeed: any outcome but done, a reply that its payload does
// not expect, or a status of 400 or more.
type Failure struct {
	Event      int64   `json:"event"`
	Source     string  `json:"source"`
	Function   string  `json:"function"` // "" of an unmatched event
	Payload    string  `json:"payload"`  // set#n
	What       string  `json:"what"`     // its key, path, or type and id
	DueSeconds float64 `json:"due_s"`
	Outcome    string  `json:"outcome"`
	Unexpected bool    `json:"unexpected"`
	Status     int     `json:"status"` // of the last attempt; 0 without a reply
	Result     string  `json:"result"` // of the last attempt, or why it was rejected
	Attempts   int     `json:"attempts"`
	Instance   string  `json:"instance"`
	Invocation uint64  `json:"invocation"` // the last
	Millis     float64 `json:"ms"`         // from due to its end
	LastLine   string  `json:"last_line"`  // of the function, during the last attempt; "" if unknown
}

// FailureCause is a group of deliveries that failed in the same way, and the worst of them.
type FailureCause struct {
	Source   string    `json:"source"`
	Function string    `json:"function"`
	Cause    string    `json:"cause"`
	Count    int       `json:"count"`
	Worst    []Failure `json:"worst"`
}

const (
	worstNamed = 3  // of each cause
	mostCauses = 12 // that are shown
	LeastBad   = 400
)

// endedWell reports whether a delivery, whose last invocation is v or nil, is not a failure.
func endedWell(d *Delivery, v *Invocation) bool {
	return d.Outcome == engine.Skipped ||
		d.Outcome == engine.Done && (v == nil || !v.Unexpected && v.Status < LeastBad)
}

// FailedInvocations returns the invocations that ended a failed delivery, in the order of these, at
// most `most`.
func (r *Run) FailedInvocations(most int) (out []*Invocation) {
	at := r.Index()
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if v := r.Invocation(at, d.Invocation); v != nil && !endedWell(d, v) && len(out) < most {
			out = append(out, v)
		}
	}
	return out
}

// Failures returns all failed deliveries, in the order of their ends.
func (r *Run) Failures() []Failure { return r.failures(func(engine.Outcome) bool { return true }) }

// hasCause reports whether the cause of an outcome is a property of the event or its
// function: what is rejected or unmatched never reached one.
func hasCause(o engine.Outcome) bool { return o != engine.Rejected && o != engine.Unmatched }

// failures returns the failed deliveries with some outcomes.
func (r *Run) failures(wanted func(engine.Outcome) bool) (out []Failure) {
	at := r.Index()
	type attempt struct {
		event int64
		wire  int32
	}
	ended := map[attempt]int{} // place of its failure
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		v := r.Invocation(at, d.Invocation)
		if !wanted(d.Outcome) || endedWell(d, v) || int(d.Event) >= len(r.Arrivals) {
			continue
		}
		a := &r.Arrivals[d.Event]
		p := Payload{Label: "an event"} // of a run that was interrupted before its payloads were written
		if int(a.Payload) < len(r.Payloads) {
			p = r.Payloads[a.Payload]
		}
		f := Failure{Event: d.Event, Source: r.Sources[d.Source].Name, Payload: fmt.Sprintf("%s#%d", p.Set, p.N),
			What: p.Label, DueSeconds: a.Due.Seconds(),
			Outcome: d.Outcome.String(), Unexpected: v != nil && v.Unexpected, Attempts: int(d.Attempts),
			Millis: figure.Milliseconds(d.Ended.Sub(a.Due)), LastLine: r.Said[d.Invocation]}
		if d.Wire >= 0 {
			f.Function = r.Functions[r.Sources[d.Source].To[d.Wire]].Name
		}
		switch {
		case d.Outcome == engine.Rejected:
			f.Result = d.Cause.String()
		case v != nil:
			f.Status, f.Invocation = int(v.Status), v.ID
			if int(v.Instance) < len(r.Instances) {
				f.Instance = fmt.Sprintf("%s-%d", f.Function, r.Instances[v.Instance].Number)
			}
		}
		ended[attempt{d.Event, d.Wire}] = len(out)
		out = append(out, f)
	}
	for i := range r.Attempts {
		a := &r.Attempts[i]
		if k, ok := ended[attempt{a.Event, a.Wire}]; ok && int(a.N) == out[k].Attempts {
			out[k].Result = a.Result.String()
		}
	}
	return out
}

// cause returns the way in which a delivery failed, given in which way replies of the run are unexpected.
func (f *Failure) cause(unexpected string) string {
	outcome := strings.ReplaceAll(f.Outcome, "_", "-")
	switch {
	case f.Unexpected:
		return unexpected
	case f.Outcome == engine.Done.String():
		return fmt.Sprintf("answered with status %d", f.Status)
	case f.Status >= LeastBad || f.Status > 0 && f.Status < 200:
		return fmt.Sprintf("%s, status %d", outcome, f.Status)
	case f.Result != "":
		return outcome + ", " + f.Result
	}
	return outcome
}

// FailureCauses groups the failed deliveries by their causes, the most common first. Rejected and
// unmatched ones are left out.
func (r *Run) FailureCauses() (out []FailureCause) {
	all, unexpected := r.failures(hasCause), r.WhyUnexpected()
	type key struct{ source, function, cause string }
	at := map[key]int{}
	for i := range all {
		f := &all[i]
		k := key{f.Source, f.Function, f.cause(unexpected)}
		n, ok := at[k]
		if !ok {
			n = len(out)
			at[k] = n
			out = append(out, FailureCause{Source: k.source, Function: k.function, Cause: k.cause, Worst: []Failure{}})
		}
		out[n].Count++
		out[n].Worst = append(out[n].Worst, *f)
		if len(out[n].Worst) > 4*worstNamed { // only the worst are kept
			out[n].keepWorst()
		}
	}
	for i := range out {
		out[i].keepWorst()
	}
	slices.SortStableFunc(out, func(a, b FailureCause) int { return b.Count - a.Count })
	return out[:min(len(out), mostCauses)]
}

func (c *FailureCause) keepWorst() {
	slices.SortStableFunc(c.Worst, func(a, b Failure) int {
		return cmp.Or(b.Attempts-a.Attempts, cmp.Compare(b.Millis, a.Millis))
	})
	c.Worst = c.Worst[:min(len(c.Worst), worstNamed)]
}
