// Package report writes what was measured as sentences: the findings of a run and of a comparison,
// verdicts, and warnings about what spoils the figures.
package report

import (
	"time"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
)

// Summarize returns the summary of a run, with the warnings about it.
func Summarize(r *record.Run) *measure.Summary {
	a := measure.Analyze(r)
	warn(a)
	return a.Summary
}

// Page is what the findings show of a run, computed once when the run ends and kept with it, so
// that a run of millions of invocations opens at once.
type Page struct {
	Version   int                      `json:"version"` // PageVersion
	Summary   *measure.Summary         `json:"summary"`
	Functions []string                 `json:"functions"` // in the order of the project
	Sources   []string                 `json:"sources"`
	Findings  []Finding                `json:"findings"`
	Spreads   []measure.FunctionSpread `json:"spreads"`  // of each function
	Failures  []record.FailureCause    `json:"failures"` // what failed, by cause
	Time      *measure.Timeline        `json:"time"`
	Kinds     map[string]string        `json:"kinds"`           // of sources, by their names
	Marks     []plan.Mark              `json:"marks,omitempty"` // counted from when the run began
	// the part that the page is about, in words; "" for all
	Filter string `json:"filter,omitempty"`
}

// Sentences returns the answer of the run in sentences.
func (p *Page) Sentences() (out []string) {
	for i := range p.Findings {
		out = append(out, p.Findings[i].Text)
	}
	return out
}

// PageVersion is the version of how findings are computed. Findings of another version
// are computed again from the run's records.
const PageVersion = 7

// NewPage computes the findings of a run.
func NewPage(r *record.Run) *Page { return pageOf(measure.Analyze(r)) }

func pageOf(a *measure.Analysis) *Page {
	r := a.Run
	warn(a)
	p := &Page{Version: PageVersion, Summary: a.Summary, Time: a.Timeline(), Spreads: a.Spreads(),
		Failures: r.FailureCauses(), Findings: findings(a), Kinds: map[string]string{}}
	for i := range r.Functions {
		p.Functions = append(p.Functions, r.Functions[i].Name)
	}
	for _, m := range r.Marks {
		p.Marks = append(p.Marks, plan.Mark{At: m.At + time.Duration(r.Begins), Text: m.Text})
	}
	for i := range r.Sources {
		p.Sources = append(p.Sources, r.Sources[i].Name)
		p.Kinds[r.Sources[i].Name] = r.Sources[i].Kind
	}
	return p
}
