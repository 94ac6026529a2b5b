package measure

import (
	"cmp"
	"slices"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/record"
)

// Cost is what a function cost over a run.
type Cost struct {
	Currency    string   `json:"currency"`
	Total       float64  `json:"total"`
	Memory      float64  `json:"memory"`
	CPU         float64  `json:"cpu"`
	Requests    float64  `json:"requests"`
	Seconds     float64  `json:"billed_seconds"`
	PerMillion  *float64 `json:"per_million"` // invocations; nil without any
	MemoryKnown bool     `json:"memory_known"`
}

// held returns the memory of a function's instances over time, in GiB·s; known is false if it is
// not known of all of them.
func held(r *record.Run, fn int32) (gib float64, known bool) {
	known = true
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Function == fn && (in.Spawned > 0 || in.Ready > 0) {
			m := r.MemoryOf(in)
			known = known && m > 0
			gib += float64(m) / (1 << 30) * r.End(in).Sub(in.Spawned).Seconds()
		}
	}
	return gib, known
}

// costsOf computes what each function cost; nil where it is not billed.
func costsOf(r *record.Run) []*Cost {
	out := make([]*Cost, len(r.Functions))
	if r.Rates == nil {
		return out
	}
	stretches, invocations := busy(r)
	for fn := range r.Functions {
		if !r.Functions[fn].Attached {
			out[fn] = cost(r, int32(fn), stretches, invocations[fn])
		}
	}
	return out
}

// cost computes what a function cost, with the stretches in which each instance was
// busy, and n invocations.
func cost(r *record.Run, fn int32, stretches [][]time.Duration, n int) *Cost {
	rates, f := r.Rates, &r.Functions[fn]
	c := &Cost{Currency: rates.Currency, MemoryKnown: true}
	bill := func(memory int64, cpu float64, d time.Duration) {
		d = max(d, rates.AtLeast)
		if u := rates.RoundUp; u > 0 {
			d = (d + u - 1) / u * u
		}
		c.Seconds += d.Seconds()
		c.Memory += float64(memory) / (1 << 30) * d.Seconds() * rates.GiBSecond
		c.CPU += cpu * d.Seconds() * rates.CPUSecond
	}
	phase := func(name string) bool { return slices.Contains(rates.Billed, name) }
	used := 0.0 // processor seconds, where no bound determines what is paid
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function != fn {
			continue
		}
		memory := r.MemoryOf(in)
		c.MemoryKnown = c.MemoryKnown && memory > 0
		if f.CPU == 0 {
			used += in.CPU.Seconds()
		}
		ready := in.Ready
		if ready == 0 {
			ready = r.End(in)
		}
		if phase("start") {
			bill(memory, f.CPU, ready.Sub(in.Spawned))
		}
		idle := r.End(in).Sub(ready)
		for _, s := range stretches[i] {
			idle -= s
			if phase("invocation") {
				bill(memory, f.CPU, s)
			}
		}
		if phase("idle") && idle > 0 {
			bill(memory, f.CPU, idle)
		}
	}
	if f.Prepared > 0 && phase("prepare") {
		bill(f.Memory, f.CPU, f.Prepared)
		c.MemoryKnown = c.MemoryKnown && f.Memory > 0
	}
	c.CPU += used * rates.CPUSecond
	c.Requests = float64(n) * rates.Request
	c.Total = c.Memory + c.CPU + c.Requests
	if n > 0 {
		per := c.Total / float64(n) * 1e6
		c.PerMillion = &per
	}
	return c
}

// busy returns for each instance the stretches in which it had at least one invocation, and counts
// the invocations of each function. A stretch that follows directly upon another is one of its own.
func busy(r *record.Run) (stretches [][]time.Duration, invocations []int) {
	type span struct{ from, to clock.Time }
	stretches, invocations = make([][]time.Duration, len(r.Instances)), make([]int, len(r.Functions))
	spans := make([][]span, len(r.Instances))
	for i := range r.Invocations {
		v := &r.Invocations[i]
		invocations[v.Function]++
		if int(v.Instance) < len(spans) {
			spans[v.Instance] = append(spans[v.Instance], span{v.Began(), v.Done})
		}
	}
	for id, all := range spans {
		if len(all) == 0 {
			continue
		}
		slices.SortFunc(all, func(a, b span) int { return cmp.Compare(a.from, b.from) })
		cur := all[0]
		for _, s := range all[1:] {
			if s.from < cur.to {
				cur.to = max(cur.to, s.to)
				continue
			}
			stretches[id] = append(stretches[id], cur.to.Sub(cur.from))
			cur = s
		}
		stretches[id] = append(stretches[id], cur.to.Sub(cur.from))
	}
	return stretches, invocations
}
