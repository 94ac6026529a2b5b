package measure

import (
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Timeline is a run over time, in steps of one length.
type Timeline struct {
	Step      time.Duration  `json:"step"` // 0 of a run without length
	Functions []FunctionTime `json:"functions"`
	Sources   []SourceTime   `json:"sources"`
}

// FunctionTime is a function over time; each list has a value for each step.
type FunctionTime struct {
	P50       []time.Duration `json:"p50"` // latency of what ended in the step; 0 where nothing did
	P95       []time.Duration `json:"p95"`
	Max       []time.Duration `json:"max"`
	Done      []int           `json:"done"`      // deliveries that were answered
	Cold      []int           `json:"cold"`      // of which cold
	Instances []int           `json:"instances"` // the most at once
	Waiting   []int           `json:"waiting"`   // the most at once
	MiB       []float64       `json:"mib"`       // held, on average over the step
}

// SourceTime is a source over time.
type SourceTime struct {
	Arrived  []int           `json:"arrived"`
	Done     []int           `json:"done"`
	Rejected []int           `json:"rejected"`
	Lost     []int           `json:"lost"`   // failed, expired, made dead letters
	Behind   []int           `json:"behind"` // arrived and not ended, at the end of the step
	Lag      []time.Duration `json:"lag"`    // the age of the oldest of those
}

// timeSteps is into how many steps a run is cut at most.
const timeSteps = 120

// timeline computes a run over time.
func timeline(r *record.Run, at []int32) *Timeline {
	t := &Timeline{Functions: make([]FunctionTime, len(r.Functions)), Sources: make([]SourceTime, len(r.Sources))}
	if r.Length <= 0 {
		return t
	}
	t.Step = max((time.Duration(r.Length)+timeSteps-1)/timeSteps, time.Millisecond)
	n := int((time.Duration(r.Length) + t.Step - 1) / t.Step)
	step := func(at clock.Time) int { return min(max(int(time.Duration(at)/t.Step), 0), n-1) }
	for i := range t.Functions {
		f := &t.Functions[i]
		f.P50, f.P95, f.Max = make([]time.Duration, n), make([]time.Duration, n), make([]time.Duration, n)
		f.Done, f.Cold, f.Instances, f.Waiting, f.MiB = make([]int, n), make([]int, n), make([]int, n), make([]int, n),
			make([]float64, n)
	}
	for i := range t.Sources {
		s := &t.Sources[i]
		s.Arrived, s.Done, s.Rejected, s.Lost, s.Behind, s.Lag = make([]int, n), make([]int, n), make([]int, n),
			make([]int, n), make([]int, n), make([]time.Duration, n)
	}
	latencyOverTime(r, at, t, n, step)
	instancesOverTime(r, t, n, step)
	sourcesOverTime(r, t, n, step)
	return t
}

func latencyOverTime(r *record.Run, at []int32, t *Timeline, n int, step func(clock.Time) int) {
	steps := make([][]stats.Population, len(r.Functions))
	for fn := range steps {
		steps[fn] = make([]stats.Population, n)
	}
	eachLatency(r, at, func(fn int32, _ *record.Delivery, inv *record.Invocation, latency time.Duration) {
		k := step(inv.Done)
		steps[fn][k].Add(latency)
		t.Functions[fn].Done[k]++
		if inv.Class == engine.Cold {
			t.Functions[fn].Cold[k]++
		}
	})
	for fn := range steps {
		for k := range n {
			if p := &steps[fn][k]; p.N() > 0 {
				f := &t.Functions[fn]
				f.P50[k], f.P95[k], f.Max[k] = p.At(stats.Rank(0.5, p.N())-1), p.At(stats.Rank(0.95, p.N())-1), p.Max()
				*p = stats.Population{}
			}
		}
	}
}

func instancesOverTime(r *record.Run, t *Timeline, n int, step func(clock.Time) int) {
	// what waited at the end of a step waits at the beginning of the next
	type state struct{ step, waiting int }
	last := make([]state, len(r.Functions))
	for i := range r.Levels {
		l := &r.Levels[i]
		waits, was, k := t.Functions[l.Function].Waiting, &last[l.Function], step(l.At)
		for ; was.step < k; was.step++ {
			waits[was.step+1] = max(waits[was.step+1], was.waiting)
		}
		was.waiting = int(l.Waiting)
		waits[k] = max(waits[k], was.waiting)
	}
	for fn, was := range last {
		for k := was.step + 1; k < n; k++ {
			t.Functions[fn].Waiting[k] = was.waiting
		}
	}
	for i := range r.Instances {
		in := &r.Instances[i]
		mib := float64(r.MemoryOf(in)) / (1 << 20)
		if in.Function < 0 || in.Spawned == 0 && in.Ready == 0 || mib == 0 {
			continue
		}
		end := r.End(in)
		for k := step(in.Spawned); k <= step(end); k++ {
			from := clock.Time(k) * clock.Time(t.Step)
			t.Functions[in.Function].MiB[k] += mib * float64(max(min(end, from.Add(t.Step))-max(in.Spawned, from),
				0)) / float64(t.Step)
		}
	}
	for fn := range t.Functions {
		all := comings(r, func(in *record.Instance) bool { return int(in.Function) == fn })
		now, i := 0, 0
		for k := range n {
			most := now
			for ; i < len(all) && step(all[i].at) <= k; i++ {
				now += all[i].by
				most = max(most, now)
			}
			t.Functions[fn].Instances[k] = most
		}
	}
}

func sourcesOverTime(r *record.Run, t *Timeline, n int, step func(clock.Time) int) {
	const never = clock.Never
	ends := make([]clock.Time, len(r.Arrivals)) // of the last delivery of each event
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		s := &t.Sources[d.Source]
		k := step(d.Ended)
		switch d.Outcome {
		case engine.Done:
			s.Done[k]++
		case engine.Rejected:
			s.Rejected[k]++
		case engine.Failed, engine.DeadLettered, engine.Expired:
			s.Lost[k]++
		}
		if int(d.Event) < len(ends) {
			ends[d.Event] = max(ends[d.Event], d.Ended)
		}
	}
	open := make([]int, len(r.Sources))   // of the arrivals so far
	oldest := make([]int, len(r.Sources)) // the first of the source that may still be open
	bySource := make([][]int32, len(r.Sources))
	ended := make([][]int, len(r.Sources))
	sizes := make([]int, len(r.Sources))
	for i := range r.Arrivals {
		sizes[r.Arrivals[i].Source]++
	}
	for i := range ended {
		ended[i], bySource[i] = make([]int, n), make([]int32, 0, sizes[i])
	}
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		t.Sources[a.Source].Arrived[step(a.Arrived)]++
		bySource[a.Source] = append(bySource[a.Source], int32(i))
		if ends[i] == 0 {
			ends[i] = never
		} else {
			ended[a.Source][step(ends[i])]++
		}
	}
	for src := range t.Sources {
		s, all := &t.Sources[src], bySource[src]
		for k := range n {
			open[src] += s.Arrived[k] - ended[src][k]
			s.Behind[k] = max(open[src], 0)
			end := min(clock.Time(k+1)*clock.Time(t.Step), r.Length)
			for oldest[src] < len(all) && ends[all[oldest[src]]] <= end {
				oldest[src]++
			}
			if i := oldest[src]; s.Behind[k] > 0 && i < len(all) {
				s.Lag[k] = max(end.Sub(r.Arrivals[all[i]].Due), 0)
			}
		}
	}
}
