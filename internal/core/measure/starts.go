package measure

import (
	"maps"
	"slices"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// StartPhases are where the time of starts went, each phase over all starts of a
// function.
type StartPhases struct {
	Spawn, Boot stats.Population // to the command's own code, and from there to ready
	Both        stats.Population // of starts of which they cannot be distinguished
	// of handlers, the parts of Boot: the interpreter, its loader, and the user's code
	Interpreter, Loader, Import stats.Population
	Answer                      stats.Population // service time of the first invocation
	own                         map[string]*stats.Population
}

// PhaseFigures are the figures of a function's starts, phase by phase.
type PhaseFigures struct {
	Spawn Figures `json:"spawn"`      // to the command's own code
	Boot  Figures `json:"boot"`       // from there to ready
	Both  Figures `json:"spawn_boot"` // where these two cannot be distinguished
	// of handlers, the parts of Boot
	Interpreter Figures `json:"interpreter"`
	Loader      Figures `json:"loader"`
	Import      Figures `json:"import"`

	Answer Figures    `json:"first_answer"`
	Own    []OwnPhase `json:"own"` // of the first answer, as the function tells in Server-Timing
}

// OwnPhase is a phase that the function itself reports.
type OwnPhase struct {
	Name string  `json:"name"`
	Took Figures `json:"took"`
}

func (p *StartPhases) figures() PhaseFigures {
	f := PhaseFigures{Spawn: figures(&p.Spawn, stats.Independent), Boot: figures(&p.Boot, stats.Independent),
		Interpreter: figures(&p.Interpreter, stats.Independent), Loader: figures(&p.Loader, stats.Independent),
		Import: figures(&p.Import, stats.Independent), Both: figures(&p.Both, stats.Independent),
		Answer: figures(&p.Answer, stats.Independent), Own: []OwnPhase{}}
	for _, name := range slices.Sorted(maps.Keys(p.own)) {
		f.Own = append(f.Own, OwnPhase{name, figures(p.own[name], stats.Independent)})
	}
	return f
}

// startPhases collects the phases of starts, and the first answers.
func startPhases(r *record.Run, seen *scan, out []Populations) {
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Ready == 0 || in.Function < 0 || r.Functions[in.Function].Attached || r.Functions[in.Function].OneShot {
			continue
		}
		p := &out[in.Function].Phases
		if in.Exec > 0 {
			p.Spawn.Add(in.Exec.Sub(in.Spawned))
			boot := in.Ready.Sub(in.Exec)
			if p.Boot.Add(boot); in.Import > 0 {
				p.Interpreter.Add(max(boot-in.Loader-in.Import, 0))
				p.Loader.Add(in.Loader)
				p.Import.Add(in.Import)
			}
		} else {
			p.Both.Add(in.Ready.Sub(in.Spawned))
		}
	}
	for _, i := range seen.firsts {
		v := &r.Invocations[i]
		p := &out[v.Function].Phases
		p.Answer.Add(v.Done.Sub(v.Began()))
		for _, own := range ParseServerTiming(r.ServerTiming(v)) {
			if own.Took == 0 {
				continue
			}
			if p.own == nil {
				p.own = map[string]*stats.Population{}
			}
			if p.own[own.Name] == nil && len(p.own) < mostOwn {
				p.own[own.Name] = &stats.Population{}
			}
			if of := p.own[own.Name]; of != nil {
				of.Add(own.Took)
			}
		}
	}
}

// mostOwn bounds the phases of their own that functions are shown with.
const mostOwn = 12

// WarmUp is service time by the n-th invocation of an instance, over all instances
// of a function.
type WarmUp struct {
	Points []WarmPoint `json:"points"`
	// Steady is the n from which on invocations are no longer getting faster, as far
	// as the samples can tell; nil where there are too few, of instances or of invocations.
	Steady *int `json:"steady_from"`
	// Gain is the median of the first invocations over that of the steady ones.
	Gain *float64 `json:"gain"`
}

// WarmPoint is the n-th invocations of all instances, or of several n.
type WarmPoint struct {
	From int     `json:"from"`
	To   int     `json:"to"`
	N    int     `json:"n"`
	P25  float64 `json:"p25_ms"`
	P50  float64 `json:"p50_ms"`
	P75  float64 `json:"p75_ms"`
}

// nthRange returns the first and the last n of a step: each alone up to four, then two
// steps for each doubling.
func nthRange(step int) (from, to int) {
	if step < 4 {
		return step + 1, step + 1
	}
	lo := 4 << ((step - 4) / 2)
	if step%2 == 0 {
		return lo + 1, lo + lo/2
	}
	return lo + lo/2 + 1, 2 * lo
}

const (
	LeastGain = 1.05 // how much slower a step must be to count as not yet warm
	// leastInstances is how many must have had a first invocation, for it to be set against
	// later ones: as many as a median takes.
	LeastInstances = 6
	warmSteps      = 40
	warmSample     = 512 // of a step at most, for telling it from those after it
)

// Instances returns how many instances had an invocation.
func (w *WarmUp) Instances() int {
	if len(w.Points) == 0 {
		return 0
	}
	return w.Points[0].N
}

// warmUps computes the warm-up of each function.
func warmUps(r *record.Run, seen *scan) []WarmUp {
	out := make([]WarmUp, len(r.Functions))
	for fn, steps := range byNth(r, seen) {
		out[fn] = warmUpOf(steps)
	}
	return out
}

// byNth returns the service times of each function's invocations by the step that they
// belong to.
func byNth(r *record.Run, seen *scan) [][warmSteps][]time.Duration {
	out := make([][warmSteps][]time.Duration, len(r.Functions))
	sizes := make([][warmSteps]int, len(r.Functions))
	for i, n := range seen.each { // counted first, so that memory is taken once
		fn := r.Instances[i].Function
		for k := 0; k < warmSteps && n > 0 && fn >= 0; k++ {
			from, to := nthRange(k)
			sizes[fn][k] += min(int(n), to) - from + 1
			if int(n) <= to {
				break
			}
		}
	}
	for fn := range out {
		for k, n := range sizes[fn] {
			out[fn][k] = make([]time.Duration, 0, n)
		}
	}
	type place struct{ n, until, step int32 }
	at := make([]place, len(r.Instances))
	for i := range r.Invocations { // in the order of their ends
		v := &r.Invocations[i]
		if v.Result != engine.OK || int(v.Instance) >= len(at) || r.Functions[v.Function].OneShot {
			continue
		}
		p := &at[v.Instance]
		if p.n++; p.n > p.until && p.step < warmSteps {
			_, to := nthRange(int(p.step))
			p.until = int32(to)
			p.step++
		}
		to := &out[v.Function][p.step-1]
		*to = append(*to, v.Done.Sub(v.Began()))
	}
	return out
}

func warmUpOf(steps [warmSteps][]time.Duration) (w WarmUp) {
	w.Points = []WarmPoint{}
	some := make([][]time.Duration, 0, warmSteps)
	var count int
	for k, all := range steps {
		if len(all) == 0 {
			continue
		}
		count += len(all)
		some = append(some, slices.Clone(stats.Thin(all, warmSample)))
		from, to := nthRange(k)
		at := func(q float64) float64 { return figure.Milliseconds(quantileOf(all, q)) }
		w.Points = append(w.Points, WarmPoint{from, to, len(all), at(0.25), at(0.5), at(0.75)})
	}
	if last := len(some) - 1; count >= 30 && last >= 4 && len(some[0]) >= LeastInstances {
		steady := 0
		for k := range last {
			// up to two steps that cannot be told from later ones may lie between
			if k > steady+2 {
				break
			}
			after := stats.Thin(slices.Concat(some[k+1:]...), 4*warmSample)
			slower := medianOf(some[k]) > time.Duration(LeastGain*float64(medianOf(after)))
			if _, p := stats.MannWhitney(some[k], after); slower && p < 0.02 {
				steady = k + 1
			}
		}
		n := w.Points[steady].From
		w.Steady = &n
		if late := medianOf(slices.Concat(some[max(steady, 1):]...)); late > 0 {
			gain := float64(medianOf(some[0])) / float64(late)
			w.Gain = &gain
		}
	}
	return w
}

// medianOf returns the median of samples, the lower one of two.
func medianOf(all []time.Duration) time.Duration {
	if len(all) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(all))
	return sorted[stats.Rank(0.5, len(sorted))-1]
}
