package forecast

import (
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
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

// alone returns how long something would have taken that took so long, slowed down by so much, and computes for a share
// of its time alone; and for which share of the time that it took it had a processor or waited for one.
func alone(took, slow, computes float64) (time, wanting float64) {
	stretch := computes*slow + 1 - computes
	return took / stretch, computes * slow / stretch
}

// apart returns an invocation's processor time and the rest of its time, without what it waited for a processor.
func (b *Base) apart(v *record.Invocation) (cpu, rest time.Duration) {
	m := &b.functions[v.Function]
	took, _ := alone(float64(v.Done-v.Began()), b.slow.between(v.Began(), v.Done, m.cap), m.computes)
	return time.Duration(m.computes * took), time.Duration((1 - m.computes) * took)
}

// noCPU is the share of processor time below which invocations count as waiting alone.
const noCPU = 0.02

// rounds is how often slowness and shares, which depend on each other, are computed anew.
const rounds = 12

// learnSlowness finds for which share of their time invocations and starts compute, and by how much they were slowed
// down. The one follows from the other: the processor time of a function is known, and is that share of the time that
// its invocations would have taken alone.
func (b *Base) learnSlowness() {
	r := b.Run
	b.functions = make([]model, len(r.Functions))
	cpu, startCPU := make([]float64, len(r.Functions)), make([]float64, len(r.Functions))
	starting := make([]float64, len(r.Functions)) // what computes is of invocations, of starts
	for fn := range r.Functions {
		m := &b.functions[fn]
		m.name, m.cap = r.Functions[fn].Name, r.Functions[fn].CPU
	}
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Function >= 0 {
			startCPU[in.Function] += float64(in.ReadyCPU)
			cpu[in.Function] += float64(max(in.CPU-in.ReadyCPU, 0))
			b.waits = b.waits || in.ReadyWait > 0
		}
	}
	b.slow = &slowness{}
	for range rounds {
		took, started := make([]float64, len(cpu)), make([]float64, len(cpu)) // alone
		var edges []edge
		for i := range r.Invocations {
			v := &r.Invocations[i]
			m := &b.functions[v.Function]
			t, wanting := alone(float64(v.Done-v.Began()), b.slow.between(v.Began(), v.Done, m.cap), m.computes)
			edges = wants(edges, v.Began(), v.Done, wanting)
			if v.Result != engine.RunEnded {
				took[v.Function] += t
			}
		}
		for i := range r.Instances {
			in := &r.Instances[i]
			if in.Function < 0 || in.Ready <= in.Spawned {
				continue
			}
			t, wanting := alone(float64(in.Ready-in.Spawned), b.slow.between(in.Spawned, in.Ready,
				b.functions[in.Function].cap), starting[in.Function])
			edges = wants(edges, in.Spawned, in.Ready, wanting)
			started[in.Function] += t
		}
		for fn := range cpu {
			b.functions[fn].computes, starting[fn] = shareOf(cpu[fn], took[fn]), shareOf(startCPU[fn], started[fn])
		}
		for _, c := range r.Calm { // measured alone, it need not be inferred
			if c.CPU > 0 && c.N >= fewest && int(c.Function) < len(b.functions) {
				b.functions[c.Function].computes = shareOf(float64(c.CPU), float64(c.Wall))
			}
		}
		b.slow = b.slownessOf(edges)
	}
}

func shareOf(cpu, whole float64) float64 {
	if whole <= 0 || cpu/whole < noCPU {
		return 0
	}
	return min(cpu/whole, 1)
}

// edge is a moment from which on more processors are wanted, or fewer.
type edge struct {
	at   clock.Time
	want float64
}

// wants adds that a share of a processor is wanted for a while.
func wants(edges []edge, from, to clock.Time, share float64) []edge {
	if to <= from || share <= 0 {
		return edges
	}
	return append(edges, edge{from, share}, edge{to, -share})
}

// slownessOf returns the slowness where these processors are wanted, and others beside.
func (b *Base) slownessOf(edges []edge) *slowness {
	r := b.Run
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
