package measure

import (
	"maps"
	"math"
	"slices"
	"strconv"
)

// Row is one figure of a comparison, for each side.
type Row struct {
	Title     string // of the group that begins here, or ""
	What      string
	Unit      string
	Values    []*float64    // of each side; nil if unknown
	Between   [][2]*float64 // 95 % intervals, where there are any
	Contrasts []*Contrast   // of each side but the first; nil where nothing is tested
	Words     []string      // in place of values, where it is not a number
}

// Rows returns the figures of a comparison, those that any side has.
func (c *Comparison) Rows() (out []Row) {
	title := ""
	add := func(what, unit, contrast string, of func(*SideFigures) *float64, between func(*SideFigures) [2]*float64) {
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
			var found *Contrast
			for k := range c.Contrasts[i] {
				if c.Contrasts[i][k].What == contrast {
					found = &c.Contrasts[i][k]
				}
			}
			r.Contrasts = append(r.Contrasts, found)
		}
		out, title = append(out, r), ""
	}
	figures := func(name, contrast string, of func(*SideFigures) *Figures) {
		add(name+" p50", "ms", contrast, func(s *SideFigures) *float64 { return of(s).P50 },
			func(s *SideFigures) [2]*float64 { f := of(s); return [2]*float64{f.P50Lo, f.P50Hi} })
		add(name+" p95", "ms", "", func(s *SideFigures) *float64 { return of(s).P95 },
			func(s *SideFigures) [2]*float64 { f := of(s); return [2]*float64{f.P95Lo, f.P95Hi} })
	}
	number := func(n int) *float64 { v := float64(n); return &v }
	title = "starts"
	figures("start", "start", func(s *SideFigures) *Figures { return &s.Figures.Start })
	add("  spawn", "ms", "", func(s *SideFigures) *float64 { return s.Figures.Phases.Spawn.P50 }, nil)
	add("  boot", "ms", "", func(s *SideFigures) *float64 { return s.Figures.Phases.Boot.P50 }, nil)
	add("  spawn, boot", "ms", "", func(s *SideFigures) *float64 { return s.Figures.Phases.Both.P50 }, nil)
	add("first reply p50", "ms", "first reply", func(s *SideFigures) *float64 { return s.Figures.Phases.Answer.P50 },
		func(s *SideFigures) [2]*float64 {
			f := &s.Figures.Phases.Answer
			return [2]*float64{f.P50Lo, f.P50Hi}
		})
	for _, own := range c.ownPhases() {
		add("  "+own, "ms", "", func(s *SideFigures) *float64 {
			for _, p := range s.Figures.Phases.Own {
				if p.Name == own {
					return p.Took.P50
				}
			}
			return nil
		}, nil)
	}
	add("prepared in", "ms", "", func(s *SideFigures) *float64 { return s.Figures.PrepareMillis }, nil)
	title = "latency, from due to done"
	figures("cold", "cold", func(s *SideFigures) *Figures { return &s.Figures.Latency.Cold })
	figures("first", "first", func(s *SideFigures) *Figures { return &s.Figures.Latency.First })
	figures("warm", "warm", func(s *SideFigures) *Figures { return &s.Figures.Latency.Warm })
	add("warm p99", "ms", "", func(s *SideFigures) *float64 { return s.Figures.Latency.Warm.P99 }, nil)
	add("warm service p50", "ms", "warm service", func(s *SideFigures) *float64 { return s.Figures.Service.Warm.P50 },
		nil)
	add("warm from the n-th", "", "", func(s *SideFigures) *float64 {
		if s.Figures.WarmUp.Steady == nil {
			return nil
		}
		return number(*s.Figures.WarmUp.Steady)
	}, nil)
	add("wait p95", "ms", "", func(s *SideFigures) *float64 { return s.Figures.Wait.Warm.P95 }, nil)
	add("peak instances", "", "", func(s *SideFigures) *float64 { return number(s.Figures.Instances.Peak) }, nil)
	share := func(n func(*SideFigures) int) func(*SideFigures) *float64 {
		return func(s *SideFigures) *float64 {
			if s.Outcomes.Deliveries == 0 {
				return nil
			}
			v := 100 * float64(n(s)) / float64(s.Outcomes.Deliveries)
			return &v
		}
	}
	add("rejected", "%", "", share(func(s *SideFigures) int { return s.Outcomes.Rejected }), nil)
	add("failed, expired", "%", "", share(func(s *SideFigures) int {
		return s.Outcomes.Failed +
			s.Outcomes.DeadLettered + s.Outcomes.Expired
	}), nil)
	add("unexpected", "%", "", share(func(s *SideFigures) int { return s.Outcomes.Unexpected }), nil)
	title = "resources"
	add("peak memory", "MiB", "peak memory", func(s *SideFigures) *float64 { return s.Figures.Resources.TypicalMiB },
		nil)
	add("memory held", "GiB·s", "", func(s *SideFigures) *float64 { return s.Figures.Resources.Held }, nil)
	add("processor time", "s", "", func(s *SideFigures) *float64 {
		if s.Figures.Resources.CPUSeconds == 0 {
			return nil
		}
		return &s.Figures.Resources.CPUSeconds
	}, nil)
	add("package on disk", "MiB", "", func(s *SideFigures) *float64 { return s.Figures.Resources.SizeMiB }, nil)
	currency := ""
	for i := range c.Sides {
		if k := c.Sides[i].Figures.Cost; k != nil {
			currency = k.Currency
		}
	}
	add("cost", currency, "", func(s *SideFigures) *float64 {
		if s.Figures.Cost == nil {
			return nil
		}
		return &s.Figures.Cost.Total
	}, nil)
	add("cost per million", currency, "", func(s *SideFigures) *float64 {
		if s.Figures.Cost == nil {
			return nil
		}
		return s.Figures.Cost.PerMillion
	}, nil)
	return out
}

// ownPhases returns the names of the phases that functions report themselves.
func (c *Comparison) ownPhases() []string {
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
		return small(*v)
	}
	return MillisText(v)
}

// small formats a number below 1 with three significant digits, and without an exponent.
func small(v float64) string {
	if v <= 0 || v >= 1 {
		return strconv.FormatFloat(v, 'f', 2, 64)
	}
	return strconv.FormatFloat(v, 'f', int(-math.Floor(math.Log10(v)))+2, 64)
}
