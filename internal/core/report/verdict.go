package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
)

// Part is a part of a verdict.
type Part struct {
	Text string
	Mood Mood
}

// Mood is what a part of a verdict means for the reader.
type Mood int

// Moods.
const (
	Neutral Mood = iota
	Good
	Bad
)

// Verdict returns the answer of the run in one line: the budgets, what was rejected or lost, and
// whether the figures can be relied on.
func (p *Page) Verdict() (out []Part) {
	s := p.Summary
	add := func(mood Mood, format string, args ...any) {
		out = append(out, Part{fmt.Sprintf(format, args...), mood})
	}
	if !s.Finished {
		add(Bad, "the run did not finish")
	}
	met, missed, open := p.budgets()
	all := len(s.Budgets)
	switch {
	case missed > 0:
		add(Bad, "%d of %s missed", missed, count(all, "budget", "budgets"))
	case met > 0:
		add(Good, "%d of %s met", met, count(all, "budget", "budgets"))
	}
	if open > 0 {
		add(Neutral, "%d without a verdict", open)
	}
	for _, name := range p.Sources {
		if c := s.Sources[name]; c.Rejected > 0 && p.onlyRejects(name) {
			add(Bad, "%d of %d %s rejected (%s)", c.Rejected, c.Deliveries, name,
				figure.Percent(float64(c.Rejected)/float64(c.Deliveries)))
		}
	}
	e := &s.Events
	if e.Rejected > 0 && !slices.ContainsFunc(p.Sources, p.onlyRejects) {
		add(Bad, "%d of %d rejected (%s)", e.Rejected, e.Deliveries,
			figure.Percent(float64(e.Rejected)/float64(e.Deliveries)))
	}
	for _, x := range []struct {
		n    int
		what string
		mood Mood
	}{{e.Failed, "failed", Bad}, {e.DeadLettered, "dead-lettered", Bad}, {e.Expired, "expired", Bad},
		{e.Unexpected, "unexpected", Bad}, {e.Unmatched, "unmatched", Neutral}, {e.Abandoned, "open at the end",
			Neutral}} {
		if x.n > 0 {
			add(x.mood, "%d %s", x.n, x.what)
		}
	}
	if out == nil {
		add(Good, "%s, all done", count(e.Deliveries, "delivery", "deliveries"))
	}
	if b := s.Driver.Busy; b != nil {
		add(Neutral, "machine %.0f %% busy", *b*100)
	}
	if spoiled := s.Beside.All(); len(spoiled) > 0 {
		add(Bad, "%s the figures", count(len(spoiled), "warning spoils", "warnings spoil"))
	} else {
		add(Neutral, "nothing spoils the figures")
	}
	return out
}

// budgets counts the budgets that were met and missed, and those with too few samples for a verdict.
func (p *Page) budgets() (met, missed, open int) {
	for i := range p.Summary.Budgets {
		switch v := &p.Summary.Budgets[i]; {
		case v.Held:
			met++
		case v.Few:
			open++
		default:
			missed++
		}
	}
	return met, missed, open
}

// VerdictText returns the verdict in one line.
func (p *Page) VerdictText() string {
	var parts []string
	for _, x := range p.Verdict() {
		parts = append(parts, x.Text)
	}
	return strings.Join(parts, " · ")
}

// onlyRejects reports whether a source is the only one of which events were rejected.
func (p *Page) onlyRejects(name string) bool {
	s := p.Summary
	return s.Sources[name].Rejected > 0 && s.Sources[name].Rejected == s.Events.Rejected
}

// FunctionRow is what a page says of one function, in one line of a table and the sentences behind it.
type FunctionRow struct {
	Name     string
	Figures  measure.FunctionFigures
	Times    *float64 // cold over warm service time; nil where either is missing
	Rejected int
	Failed   int // failed, dead-lettered or expired
	Cause    string
	Weight   Weight
	Findings []*Finding
}

// FunctionRows returns a row for each function to which something happened, the worst first: by the share
// of its deliveries that were rejected or failed, then by its main cause.
func (p *Page) FunctionRows() (out []FunctionRow) {
	for _, name := range p.Functions {
		f := p.Summary.Functions[name]
		row := FunctionRow{Name: name, Figures: f, Rejected: f.Outcomes.Rejected,
			Failed: f.Outcomes.Failed + f.Outcomes.DeadLettered + f.Outcomes.Expired}
		if cold, warm := f.Latency.Cold.P50, f.Service.Warm.P50; cold != nil && warm != nil && *warm > 0 {
			row.Times = new(*cold / *warm)
		}
		for i := range p.Findings {
			x := &p.Findings[i]
			if x.Function != name {
				continue
			}
			row.Findings = append(row.Findings, x)
			if x.Weight > None && x.Weight >= row.Weight {
				row.Weight, row.Cause = x.Weight, x.Cause
			}
		}
		if len(row.Findings) > 0 || f.Attempts > 0 || f.Instances.Started > 0 || f.Outcomes.Deliveries > 0 {
			out = append(out, row)
		}
	}
	lost := func(r *FunctionRow) float64 {
		return float64(r.Rejected+r.Failed) / float64(max(r.Figures.Outcomes.Deliveries, 1))
	}
	slices.SortStableFunc(out, func(a, b FunctionRow) int {
		return cmp.Or(cmp.Compare(lost(&b), lost(&a)), cmp.Compare(b.Weight, a.Weight))
	})
	return out
}
