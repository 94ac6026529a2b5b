package report

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
)

// Row is one figure of a comparison, for each side.
type Row struct {
	Title     string // of the group that begins here, or ""
	What      string
	Unit      string
	Values    []*float64          // of each side; nil if unknown
	Between   [][2]*float64       // 95 % intervals, where there are any
	Contrasts []*measure.Contrast // of each side but the first; nil where nothing is tested
	Words     []string            // in place of values, where it is not a number
}

// Rows returns the figures of a comparison, those that any side has.
func Rows(c *measure.Comparison) (out []Row) {
	title := ""
	add := func(what, unit, contrast string, of func(*measure.SideFigures) *float64,
		between func(*measure.SideFigures) [2]*float64) {
		r := Row{Title: title, What: what, Unit: unit}
		any := false
		for i := range c.Sides {
			v := of(&c.Sides[i])
			any = any || v != nil
			r.Values = append(r.Values, v)
			if between != nil {
				r.Between = append(r.Between, between(&c.Sides[i]))
			}
		}
		if !any {
			return
		}
		for i := range c.Contrasts {
			var found *measure.Contrast
			for k := range c.Contrasts[i] {
				if c.Contrasts[i][k].What == contrast {
					found = &c.Contrasts[i][k]
				}
			}
			r.Contrasts = append(r.Contrasts, found)
		}
		out, title = append(out, r), ""
	}
	figures := func(name, contrast string, of func(*measure.SideFigures) *measure.Figures) {
		add(name+" p50", "ms", contrast, func(s *measure.SideFigures) *float64 { return of(s).P50 },
			func(s *measure.SideFigures) [2]*float64 { f := of(s); return [2]*float64{f.P50Lo, f.P50Hi} })
		add(name+" p95", "ms", "", func(s *measure.SideFigures) *float64 { return of(s).P95 },
			func(s *measure.SideFigures) [2]*float64 { f := of(s); return [2]*float64{f.P95Lo, f.P95Hi} })
	}
	number := func(n int) *float64 { v := float64(n); return &v }
	title = "starts"
	figures("start", "start", func(s *measure.SideFigures) *measure.Figures { return &s.Figures.Start })
	add("  spawn", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.Phases.Spawn.P50 }, nil)
	add("  boot", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.Phases.Boot.P50 }, nil)
	add("  import", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.Phases.Import.P50 }, nil)
	add("  spawn, boot", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.Phases.Both.P50 }, nil)
	add("first reply p50", "ms", "first reply",
		func(s *measure.SideFigures) *float64 { return s.Figures.Phases.Answer.P50 },
		func(s *measure.SideFigures) [2]*float64 {
			f := &s.Figures.Phases.Answer
			return [2]*float64{f.P50Lo, f.P50Hi}
		})
	for _, own := range ownPhases(c) {
		add("  "+own, "ms", "", func(s *measure.SideFigures) *float64 {
			for _, p := range s.Figures.Phases.Own {
				if p.Name == own {
					return p.Took.P50
				}
			}
			return nil
		}, nil)
	}
	add("prepared in", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.PrepareMillis }, nil)
	title = "latency, from due to done"
	figures("cold", "cold", func(s *measure.SideFigures) *measure.Figures { return &s.Figures.Latency.Cold })
	figures("first", "first", func(s *measure.SideFigures) *measure.Figures { return &s.Figures.Latency.First })
	figures("warm", "warm", func(s *measure.SideFigures) *measure.Figures { return &s.Figures.Latency.Warm })
	add("warm p99", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.Latency.Warm.P99 }, nil)
	add("warm service p50", "ms", "warm service",
		func(s *measure.SideFigures) *float64 { return s.Figures.Service.Warm.P50 },
		nil)
	add("own warm time p50", "ms", "own warm time", func(s *measure.SideFigures) *float64 {
		if s.Figures.Own == nil {
			return nil
		}
		return s.Figures.Own.Warm.P50
	}, nil)
	inside := func(what string, of func(*measure.FunctionFigures) measure.Figures) {
		add(what+" p50", "ms", what, func(s *measure.SideFigures) *float64 { return of(&s.Figures).P50 },
			func(s *measure.SideFigures) [2]*float64 {
				x := of(&s.Figures)
				return [2]*float64{x.P50Lo, x.P50Hi}
			})
	}
	for _, name := range calledBy(c) {
		inside("call to "+name, func(f *measure.FunctionFigures) measure.Figures { return f.Upstreams[name].Ms })
	}
	for _, name := range spanNames(c) {
		inside("span "+name, func(f *measure.FunctionFigures) measure.Figures { return f.Spans[name].Ms })
	}
	add("warm from the n-th", "", "", func(s *measure.SideFigures) *float64 {
		if s.Figures.WarmUp.Steady == nil {
			return nil
		}
		return number(*s.Figures.WarmUp.Steady)
	}, nil)
	add("wait p95", "ms", "", func(s *measure.SideFigures) *float64 { return s.Figures.Wait.Warm.P95 }, nil)
	add("peak instances", "", "", func(s *measure.SideFigures) *float64 { return number(s.Figures.Instances.Peak) },
		nil)
	share := func(n func(*measure.SideFigures) int) func(*measure.SideFigures) *float64 {
		return func(s *measure.SideFigures) *float64 {
			if s.Outcomes.Deliveries == 0 {
				return nil
			}
			v := 100 * float64(n(s)) / float64(s.Outcomes.Deliveries)
			return &v
		}
	}
	add("rejected", "%", "", share(func(s *measure.SideFigures) int { return s.Outcomes.Rejected }), nil)
	add("failed, expired", "%", "", share(func(s *measure.SideFigures) int {
		return s.Outcomes.Failed +
			s.Outcomes.DeadLettered + s.Outcomes.Expired
	}), nil)
	add("unexpected", "%", "", share(func(s *measure.SideFigures) int { return s.Outcomes.Unexpected }), nil)
	title = "resources"
	add("peak memory", "MiB", "peak memory", func(
		s *measure.SideFigures) *float64 {
		return s.Figures.Resources.TypicalMiB
	},
		nil)
	add("memory held", "GiB·s", "", func(s *measure.SideFigures) *float64 { return s.Figures.Resources.Held }, nil)
	add("processor time", "s", "", func(s *measure.SideFigures) *float64 {
		if s.Figures.Resources.CPUSeconds == 0 {
			return nil
		}
		return &s.Figures.Resources.CPUSeconds
	}, nil)
	add("package on disk", "MiB", "", func(s *measure.SideFigures) *float64 { return s.Figures.Resources.SizeMiB }, nil)
	currency := ""
	for i := range c.Sides {
		if k := c.Sides[i].Figures.Cost; k != nil {
			currency = k.Currency
		}
	}
	add("cost", currency, "", func(s *measure.SideFigures) *float64 {
		if s.Figures.Cost == nil {
			return nil
		}
		return &s.Figures.Cost.Total
	}, nil)
	add("cost per million", currency, "", func(s *measure.SideFigures) *float64 {
		if s.Figures.Cost == nil {
			return nil
		}
		return s.Figures.Cost.PerMillion
	}, nil)
	return out
}

// ownPhases returns the names of the phases that functions report themselves.
func ownPhases(c *measure.Comparison) []string {
	all := map[string]bool{}
	for i := range c.Sides {
		for _, p := range c.Sides[i].Figures.Phases.Own {
			all[p.Name] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// Text formats the value of a side.
func (r *Row) Text(side int) string {
	v := r.Values[side]
	switch {
	case v == nil:
		return "–"
	case r.Unit == "":
		return strconv.FormatFloat(*v, 'f', 0, 64)
	case r.Unit == "%":
		return strconv.FormatFloat(*v, 'f', 1, 64)
	case *v != 0 && *v < 0.01:
		return figure.Small(*v)
	}
	return figure.Millis(v)
}

// mostSpanRows bounds the names of spans that a comparison shows.
const mostSpanRows = 12

// spanNames returns the names of the spans that any side has, those with the most time first.
func spanNames(c *measure.Comparison) (names []string) {
	most := map[string]float64{}
	for i := range c.Sides {
		for name, x := range c.Sides[i].Figures.Spans {
			share := 0.0
			if x.Share != nil {
				share = *x.Share
			}
			most[name] = max(most[name], share)
		}
	}
	names = slices.SortedFunc(maps.Keys(most), func(a, b string) int {
		return cmp.Or(cmp.Compare(most[b], most[a]), strings.Compare(a, b))
	})
	return names[:min(len(names), mostSpanRows)]
}

// calledBy returns the upstreams that any side calls, sorted.
func calledBy(c *measure.Comparison) (names []string) {
	for i := range c.Sides {
		names = slices.AppendSeq(names, maps.Keys(c.Sides[i].Figures.Upstreams))
	}
	slices.Sort(names)
	return slices.Compact(names)
}
