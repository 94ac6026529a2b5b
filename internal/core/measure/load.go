package measure

import (
	"math"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Load is the load on all functions together, and how it was handled.
type Load struct {
	Offered   *float64 `json:"offered_per_s"`   // events from outside, from the first due to the last
	Completed *float64 `json:"completed_per_s"` // deliveries done, from the first due to the last end
	Most      int      `json:"most_instances"`
	MostAfter *float64 `json:"most_after_s"` // from the first due
	// from the last due until no more than keep_warm were left; nil when the run ended before
	Rest *float64 `json:"rest_after_s"`
}

// load computes rates, and how instances came and went.
func load(r *record.Run, s *Summary, seen *scan) {
	first, last := seen.first, seen.last
	rate := func(n int, until clock.Time) *float64 {
		if until <= first || n < 2 {
			return nil
		}
		v := float64(n) / until.Sub(first).Seconds()
		return &v
	}
	s.Load.Offered, s.Load.Completed = rate(seen.outside, last), rate(s.Events.Done, seen.ended)
	keep := 0
	for i := range r.Functions {
		keep += r.Functions[i].KeepWarm
	}
	n := 0
	var at, rest clock.Time
	for _, c := range comings(r, func(in *record.Instance) bool {
		return !r.Functions[in.Function].OneShot && !r.Functions[in.Function].Attached
	}) {
		was := n
		if n += c.by; n > s.Load.Most {
			s.Load.Most, at = n, c.at
		}
		if was > keep && n == keep {
			if rest = c.at; c.over { // everything is stopped then: that is not a rest
				rest = 0
			}
		}
	}
	if s.Load.Most > 0 && first != clock.Never {
		v := max(at.Sub(first), 0).Seconds()
		s.Load.MostAfter = &v
	}
	if rest > last && last >= 0 && n <= keep {
		v := rest.Sub(last).Seconds()
		s.Load.Rest = &v
	}
}

// driver measures how well the driver kept to the plan.
func driver(r *record.Run, s *Summary) {
	lag := make([]time.Duration, 0, len(r.Arrivals))
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.Offered() {
			lag = append(lag, a.Arrived.Sub(a.Due))
		}
	}
	s.Driver = DriverFigures{LagP50: millisAt(lag, 0.5), LagP99: millisAt(lag, 0.99)}
	s.Driver.Stolen = math.Round(r.Stolen*1000) / 1000
	if !math.IsNaN(r.Busy) {
		busy := math.Round(r.Busy*1000) / 1000
		s.Driver.Busy = &busy
	}
	if r.Self != nil {
		s.Driver.EchoBefore = figures(stats.Of(r.Self.Before), stats.Independent)
		s.Driver.EchoDuring = figures(stats.Of(r.Self.During), stats.Independent)
		s.Driver.TimerP99 = millisAt(slices.Clone(r.Self.Timer), 0.95)
	}
}

// millisAt returns percentile q of samples that it may bring into another order, in milliseconds; nil where there are
// too few.
func millisAt(all []time.Duration, q float64) *float64 {
	if !stats.Enough(q, len(all)) {
		return nil
	}
	v := figure.Milliseconds(quantileOf(all, q))
	return &v
}
