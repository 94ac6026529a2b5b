package measure

import (
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Tally is the running figures of a drill: approximate (to three digits) and
// cheap, for looking on. The figures of the findings are exact.
type Tally struct {
	Functions []FunctionTally
	Sources   []Counts
	Refused   [engine.Causes]int // rejected, by why
	seen      struct{ arrivals, deliveries int }
}

// FunctionTally is the running figures of one function.
type FunctionTally struct {
	Latency [3]*hdrhistogram.Histogram // by engine.Class, in µs
}

// NewTally returns the tally of a run.
func NewTally(r *record.Run) *Tally {
	t := &Tally{Functions: make([]FunctionTally, len(r.Functions)), Sources: make([]Counts, len(r.Sources))}
	for i := range t.Functions {
		for c := range t.Functions[i].Latency {
			t.Functions[i].Latency[c] = hdrhistogram.New(1, int64(time.Hour/time.Microsecond), 3)
		}
	}
	return t
}

// Update takes in what the run holds beyond what was seen of it; find gives an
// invocation by its ID.
func (t *Tally) Update(r *record.Run, find func(uint64) *record.Invocation) {
	for ; t.seen.arrivals < len(r.Arrivals); t.seen.arrivals++ {
		t.Sources[r.Arrivals[t.seen.arrivals].Source].Arrived++
	}
	for ; t.seen.deliveries < len(r.Deliveries); t.seen.deliveries++ {
		d := &r.Deliveries[t.seen.deliveries]
		t.Sources[d.Source].add(d.Outcome)
		if d.Outcome == engine.Rejected {
			t.Refused[d.Cause]++
		}
		if d.Attempts > 1 || d.Outcome != engine.Done && d.Outcome != engine.Failed &&
			d.Outcome != engine.DeadLettered {
			continue // several attempts are a population of their own
		}
		if inv := find(d.Invocation); inv != nil {
			latency := inv.Done.Sub(r.Arrivals[d.Event].Due)
			// longer than an hour counts as none
			_ = t.Functions[inv.Function].Latency[inv.Class].RecordValue(int64(latency / time.Microsecond))
		}
	}
}

// Percentile returns a running percentile of a class in milliseconds, or nil
// when there are too few.
func (f *FunctionTally) Percentile(c engine.Class, q float64) *float64 {
	h := f.Latency[c]
	if !stats.Enough(q, int(h.TotalCount())) {
		return nil
	}
	v := float64(h.ValueAtQuantile(q*100)) / 1e3
	return &v
}

// N returns how many there were of a class.
func (f *FunctionTally) N(c engine.Class) int { return int(f.Latency[c].TotalCount()) }
