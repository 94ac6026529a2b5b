package forecast

import (
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

const (
	busyOthers = 0.85 // of the processors, in use by others
	fewStarts  = 6    // starts from which a cold start is forecast
	muchSlower = 1.25 // times as long, for something to be said to grow
	muchDrift  = 1.5  // likewise over the time of a run, in which the load changes as well
	calm       = 1.1  // slowness up to which an invocation had the processors for itself
	surely     = 0.01 // the chance of that
	fewSamples = 30   // on each side, for that to be looked at
	reproduced = 0.25 // by which the run itself is missed at most
)

// doubts finds what the run cannot tell.
func (b *Base) doubts() {
	busy, n := 0.0, 0
	for _, o := range b.others {
		busy, n = busy+o, n+1
	}
	if n > 0 && busy/float64(n) > busyOthers*b.Cores {
		b.refuse("", "carry the drill out on a calmer machine", "others used %s of the machine's processors",
			figure.Percent(busy/float64(n)/b.Cores))
	}
	for fn := range b.functions {
		m := &b.functions[fn]
		if m.n < fewest {
			continue
		}
		early, late := b.byTime(fn)
		if slower(early, late, muchDrift) || slower(late, early, muchDrift) {
			b.refuse(m.name, "carry the drill out for longer, or from a warm beginning",
				"its service time drifts over the run (median %s at first, %s at last): a cache, or something that "+
					"fills up",
				figure.Duration(median(early)), figure.Duration(median(late)))
			continue // of which other doubts would follow
		}
		crowded, alone := b.byInFlight(fn)
		if slower(crowded, alone, muchSlower) {
			b.refuse(m.name, "stand in for what it calls (upstreams), or try the limit live",
				"its service time grows with what is in flight (median %s against %s) and its processor time does "+
					"not: "+
					"something outside limits it", figure.Duration(median(crowded)), figure.Duration(median(alone)))
		}
	}
	if b.Refusals == nil {
		b.reproduces()
	}
}

func (b *Base) refuse(function, remedy, format string, args ...any) {
	b.Refusals = append(b.Refusals, Refusal{function, fmt.Sprintf(format, args...), remedy})
}

func median(all []time.Duration) time.Duration {
	if len(all) == 0 {
		return 0
	}
	all = slices.Sorted(slices.Values(all))
	return all[stats.Rank(0.5, len(all))-1]
}

// slower reports whether the first samples are surely longer than the others, by so many times.
func slower(a, b []time.Duration, much float64) bool {
	if len(a) < fewSamples || len(b) < fewSamples || median(b) <= 0 {
		return false
	}
	if float64(median(a)) < much*float64(median(b)) || median(a)-median(b) < time.Millisecond {
		return false
	}
	_, p := stats.MannWhitney(a, b)
	return p < surely
}

// warmOf visits the warm invocations of a function that went well, with their place in the run: those of the pool with
// the most of them, since what pools differ by is no doubt.
func (b *Base) warmOf(fn int, visit func(i int)) {
	good := func(i int) bool {
		v := &b.Run.Invocations[i]
		return int(v.Function) == fn && v.Class == engine.Warm && v.Result == engine.OK && v.Batch == 1 &&
			b.poolOf[i] >= 0
	}
	var n [pools]int
	for i := range b.Run.Invocations {
		if good(i) {
			n[b.poolOf[i]]++
		}
	}
	largest := slices.Index(n[:], slices.Max(n[:]))
	for i := range b.Run.Invocations {
		if good(i) && b.poolOf[i] == largest {
			visit(i)
		}
	}
}

// byInFlight returns the service times, without what was waited for a processor, of invocations that began while much
// was in flight, and while little was.
func (b *Base) byInFlight(fn int) (crowded, alone []time.Duration) {
	l := b.inFlight(fn)
	if l.most < 2 {
		return nil, nil
	}
	b.warmOf(fn, func(i int) {
		v := &b.Run.Invocations[i]
		cpu, rest := b.apart(v)
		took := cpu + rest
		switch n := l.since(v.Assigned); {
		case 3*n > 2*l.most:
			crowded = append(crowded, took)
		case 3*n <= l.most || n <= 1:
			alone = append(alone, took)
		}
	})
	return crowded, alone
}

// byTime returns the service times of the first and of the last third of a function's invocations: of those that had
// the processors for themselves, where there are enough, since the load of a drill changes over its time.
func (b *Base) byTime(fn int) (early, late []time.Duration) {
	early, late = b.thirds(fn, func(v *record.Invocation) bool { return b.slow.between(v.Began(), v.Done, 0) <= calm })
	if len(early) < fewSamples || len(late) < fewSamples {
		early, late = b.thirds(fn, func(*record.Invocation) bool { return true })
	}
	return early, late
}

// thirds returns the service times of the first and of the last third of a function's invocations, as far as they are
// wanted.
func (b *Base) thirds(fn int, wanted func(*record.Invocation) bool) (early, late []time.Duration) {
	type at struct {
		began  clock.Time
		took   time.Duration
		wanted bool
	}
	var all []at
	b.warmOf(fn, func(i int) {
		v := &b.Run.Invocations[i]
		cpu, rest := b.apart(v)
		all = append(all, at{v.Began(), cpu + rest, wanted(v)})
	})
	slices.SortFunc(all, func(a, b at) int { return int(a.began - b.began) })
	third := len(all) / 3
	for i := range all {
		switch {
		case !all[i].wanted:
		case i < third:
			early = append(early, all[i].took)
		case i >= len(all)-third:
			late = append(late, all[i].took)
		}
	}
	return early, late
}

// reproduces simulates the run itself, and refuses functions whose warm service time does not come out.
func (b *Base) reproduces() {
	was := measure.Analyze(b.Run).Summary
	is := measure.Analyze(b.Simulate(Setting{Limits: b.Limits, Seed: 1})).Summary
	for fn := range b.functions {
		name := b.functions[fn].name
		w, i := was.Functions[name].Service.Warm, is.Functions[name].Service.Warm
		if w.Mean == nil || i.Mean == nil || w.N < fewSamples {
			continue
		}
		// by the mean: a median of two modes goes from one to the other by chance
		if ratio := *i.Mean / *w.Mean; (ratio > 1+reproduced || ratio < 1-reproduced) && abs64(*i.Mean-*w.Mean) > 1 {
			b.refuse(name, "carry the drill out on a calmer machine, or for longer",
				"the model does not reproduce the run "+
					"itself: warm service %s ms against %s ms measured (mean)", figure.Millis(i.Mean),
				figure.Millis(w.Mean))
		}
	}
}

func abs64(v float64) float64 { return max(v, -v) }

// refusal returns why a setting is not forecast, or "" where it is.
func (b *Base) refusal(c *Cell, began, inFlight []int) string {
	limits := c.Setting
	for _, r := range b.Refusals {
		switch fn := b.Project.FunctionNamed(r.Function); {
		case r.Function == "":
			return r.Text
		case fn >= 0 && limits[fn] != b.Limits[fn]:
			return r.Function + ": " + r.Text
		}
	}
	for fn := range b.functions {
		m := &b.functions[fn]
		if began[fn] > 0 && m.seen < fewStarts && began[fn] > m.seen && b.wantsStarts(fn, limits) {
			return fmt.Sprintf("%s: starts seen: %d; it would start %d, and %d are needed", m.name, m.seen,
				began[fn], fewStarts)
		}
		if limits[fn] != b.Limits[fn] && inFlight[fn] > m.inFlight*mostBeyond && m.inFlight > 0 {
			return fmt.Sprintf("%s: %d would be in flight at once, and at most %d ever were; a run with max %d "+
				"would tell",
				m.name, inFlight[fn], m.inFlight, inFlight[fn])
		}
	}
	return ""
}

// wantsStarts reports whether a setting changes how often a function starts.
func (b *Base) wantsStarts(fn int, limits []plan.Limits) bool { return limits[fn] != b.Limits[fn] }

// mostBeyond is how many times as many may be in flight as were ever seen.
const mostBeyond = 2

// Extrapolates reports whether more would be in flight than was ever seen.
func (b *Base) extrapolates(inFlight []int) bool {
	for fn := range b.functions {
		if b.functions[fn].inFlight > 0 && inFlight[fn] > b.functions[fn].inFlight {
			return true
		}
	}
	return false
}
