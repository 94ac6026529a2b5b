package forecast

import (
	"slices"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/record"
)

// slowness is by how much work was slowed down over a run that had to share the processors: its integral over time.
type slowness struct {
	at   []clock.Time
	area []float64
}

// until returns the integral up to a moment.
func (s *slowness) until(t clock.Time) float64 {
	i, _ := slices.BinarySearch(s.at, t)
	switch {
	case i == 0:
		return float64(t)
	case i == len(s.at):
		return s.area[i-1] + float64(t-s.at[i-1])
	}
	share := float64(t-s.at[i-1]) / float64(s.at[i]-s.at[i-1])
	return s.area[i-1] + share*(s.area[i]-s.area[i-1])
}

// between returns by how much work was slowed down between two moments that may use no more than a number of
// processors; 0 for no bound.
func (s *slowness) between(from, to clock.Time, most float64) float64 {
	slow := 1.0
	if to > from {
		slow = max((s.until(to)-s.until(from))/float64(to-from), 1)
	}
	if most > 0 && most < 1 {
		slow = max(slow, 1/most)
	}
	return slow
}

// apart returns an invocation's processor time and the rest of its time, without what it waited for a processor.
func (b *Base) apart(v *record.Invocation) (cpu, rest time.Duration) {
	m := &b.functions[v.Function]
	took := v.Done.Sub(v.Began())
	computed := time.Duration(m.computes * float64(took))
	alone := min(m.scale/b.slow.between(v.Began(), v.Done, m.cap), 1) // the rest it computes between invocations
	return time.Duration(alone * float64(computed)), took - computed
}

// noCPU is the share of processor time below which invocations count as waiting alone.
const noCPU = 0.02

// rounds is how often slowness and shares, which depend on each other, are computed anew.
const rounds = 12

// learnSlowness finds which share of their time invocations and starts had a processor or waited for one, and by how
// much they were slowed down. Where their waiting was measured, the shares are known, too; elsewhere the one follows
// from the other: the processor time of a function is known, and is the
// share of the time of its invocations, each divided by how much it was slowed down.
func (b *Base) learnSlowness() {
	r := b.Run
	b.functions = make([]model, len(r.Functions))
	cpu, startCPU := make([]float64, len(r.Functions)), make([]float64, len(r.Functions))
	wait, startWait := make([]float64, len(r.Functions)), make([]float64, len(r.Functions))
	starting := make([]float64, len(r.Functions))
	for fn := range r.Functions {
		m := &b.functions[fn]
		m.name, m.cap = r.Functions[fn].Name, r.Functions[fn].CPU
	}
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Function >= 0 {
			startCPU[in.Function] += float64(in.ReadyCPU)
			cpu[in.Function] += float64(max(in.CPU-in.ReadyCPU, 0))
			startWait[in.Function] += float64(in.ReadyWait)
			wait[in.Function] += float64(max(in.Wait-in.ReadyWait, 0))
			b.waits = b.waits || in.ReadyWait > 0
		}
	}
	b.slow = &slowness{}
	for range rounds {
		took, started := make([]float64, len(cpu)), make([]float64, len(cpu)) // without slowness
		whole, wholeStart := make([]float64, len(cpu)), make([]float64, len(cpu))
		for i := range r.Invocations {
			if v := &r.Invocations[i]; v.Result != engine.RunEnded {
				whole[v.Function] += float64(v.Done - v.Began())
				took[v.Function] += float64(v.Done-v.Began()) / b.slow.between(v.Began(), v.Done,
					b.functions[v.Function].cap)
			}
		}
		for i := range r.Instances {
			if in := &r.Instances[i]; in.Function >= 0 && in.Ready > in.Spawned {
				wholeStart[in.Function] += float64(in.Ready - in.Spawned)
				started[in.Function] += float64(in.Ready-in.Spawned) /
					b.slow.between(in.Spawned, in.Ready, b.functions[in.Function].cap)
			}
		}
		for fn := range cpu {
			m := &b.functions[fn]
			if m.computes, m.scale = shareOf(cpu[fn], took[fn]), 1; b.waits {
				starting[fn] = shareOf(startCPU[fn]+startWait[fn], wholeStart[fn])
				// threads that wait at the same time count twice: no more than there was to wait for
				waited := min(wait[fn], cpu[fn]*(whole[fn]/max(took[fn], 1)-1))
				if m.computes = shareOf(cpu[fn]+waited, whole[fn]); m.computes > 0 {
					m.scale = cpu[fn] / (m.computes * took[fn])
				}
				continue
			}
			starting[fn] = shareOf(startCPU[fn], started[fn])
		}
		b.slow = b.slownessOf(starting)
	}
}

func shareOf(cpu, whole float64) float64 {
	if whole <= 0 || cpu/whole < noCPU {
		return 0
	}
	return min(cpu/whole, 1)
}

// slownessOf returns the slowness where invocations and starts want a processor for their shares of the time.
func (b *Base) slownessOf(starting []float64) *slowness {
	r := b.Run
	type edge struct {
		at   clock.Time
		want float64
	}
	var edges []edge
	span := func(from, to clock.Time, want float64) {
		if to > from && want > 0 {
			edges = append(edges, edge{from, want}, edge{to, -want})
		}
	}
	for i := range r.Invocations {
		v := &r.Invocations[i]
		span(v.Began(), v.Done, b.functions[v.Function].computes)
	}
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Function >= 0 {
			span(in.Spawned, in.Ready, starting[in.Function])
		}
	}
	before := 0.0
	for i, o := range b.others {
		edges = append(edges, edge{max(r.Loads[i].At-clock.Time(250*time.Millisecond), 0), o - before})
		before = o
	}
	slices.SortStableFunc(edges, func(a, b edge) int { return int(a.at - b.at) })
	out := &slowness{}
	want, sum, last := 0.0, 0.0, clock.Time(0)
	for _, e := range edges {
		if e.at > last {
			sum += float64(e.at-last) * max(1, want/b.Cores)
			out.at, out.area, last = append(out.at, e.at), append(out.area, sum), e.at
		}
		want += e.want
	}
	return out
}
