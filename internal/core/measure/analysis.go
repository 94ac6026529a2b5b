// Package measure computes the figures of a run: populations of latencies, service times and start
// times, their percentiles with intervals, outcomes, costs, warm-up and budgets, and the contrasts
// of a comparison. It writes no sentences: package report does.
package measure

import (
	"nightdrill/internal/core/record"
)

// Analysis is all that is computed of a run's records.
type Analysis struct {
	Run         *record.Run
	Summary     *Summary      // its warnings are added by whoever reports it
	Populations []Populations // of each function
	Outcomes    []Counts      // of the deliveries to each function
	Time        *Timeline
	At          []int32 // the place of each invocation by its ID, or -1
}

// Analyze computes the figures of a run.
func Analyze(r *record.Run) *Analysis {
	seen := walk(r)
	a := &Analysis{Run: r, Populations: collect(r, seen), At: seen.at}
	a.Summary = summarize(r, seen, a.Populations)
	a.Outcomes, a.Time = seen.outcomes, timeline(r, seen.at)
	return a
}

// Spreads returns where the durations of each function lie.
func (a *Analysis) Spreads() (out []FunctionSpread) {
	for i := range a.Populations {
		out = append(out, spreadOf(&a.Populations[i]))
	}
	return out
}
