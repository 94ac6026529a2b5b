package catalog

import (
	"slices"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/schedule"
)

// DueTime is a scheduled run.
type DueTime struct {
	schedule.Occurrence
	Spec *schedule.Spec
}

// NextTimes returns the next n runs of a schedule after a moment.
func NextTimes(src *plan.Source, after time.Time, n int) (out []DueTime) {
	for i := range src.Times {
		at := after
		for range n {
			o, ok := src.Times[i].Next(at)
			if !ok {
				break
			}
			out = append(out, DueTime{o, &src.Times[i]})
			at = o.At
		}
	}
	slices.SortStableFunc(out, func(a, b DueTime) int { return a.At.Compare(b.At) })
	out = slices.CompactFunc(out, func(a, b DueTime) bool { return a.At.Equal(b.At) })
	return out[:min(n, len(out))]
}
