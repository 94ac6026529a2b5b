// Package measure computes the figures of a run: populations of latencies, service times and start
// times, their percentiles with intervals, outcomes, costs, warm-up and budgets, and the contrasts
// of a comparison. It writes no sentences: package report does.
package measure

import "nightdrill.dev/internal/core/record"

// Analysis is all that is computed of a run's records.
type Analysis struct {
	Run         *record.Run
	Summary     *Summary      // its warnings are added by whoever reports it
	Populations []Populations // of each function
	At          []int32       // the place of each invocation by its ID, or -1
}

// Analyze computes the figures of a run.
func Analyze(r *record.Run) *Analysis {
	seen := walk(r)
	a := &Analysis{Run: r, At: seen.at}
	a.Summary, a.Populations = summarize(r, seen)
	return a
}

// Timeline computes how latencies, instances and sources went over time.
func (a *Analysis) Timeline() *Timeline { return timeline(a.Run, a.At) }

// Spreads returns where the durations of each function lie.
func (a *Analysis) Spreads() (out []FunctionSpread) {
	for i := range a.Populations {
		out = append(out, spreadOf(&a.Populations[i]))
	}
	return out
}
