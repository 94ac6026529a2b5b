package measure

import (
	"cmp"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
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
	c := &costing{Cost: Cost{Currency: r.Rates.Currency, MemoryKnown: true}, rates: r.Rates, f: &r.Functions[fn]}
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function != fn {
			continue
		}
		memory := r.MemoryOf(in)
		idle := c.instance(in, memory, r.End(in))
		for _, s := range stretches[i] {
			idle -= s
			c.invocations(memory, s)
		}
		c.idle(memory, idle)
	}
	return c.total(n)
}

// costing is the cost of a function while it is added up.
type costing struct {
	Cost
	rates *plan.Rates
	f     *record.Function
	used  float64 // processor seconds, where no bound determines what is paid
}

func (c *costing) bills(phase string) bool { return slices.Contains(c.rates.Billed, phase) }

func (c *costing) bill(memory int64, d time.Duration) {
	d = max(d, c.rates.AtLeast)
	if u := c.rates.RoundUp; u > 0 {
		d = (d + u - 1) / u * u
	}
	c.Seconds += d.Seconds()
	c.Memory += float64(memory) / (1 << 30) * d.Seconds() * c.rates.GiBSecond
	c.CPU += c.f.CPU * d.Seconds() * c.rates.CPUSecond
}

// instance adds an instance that is gone at end, and its start. It returns for how long the instance was there after
// that.
func (c *costing) instance(in *record.Instance, memory int64, end clock.Time) (there time.Duration) {
	c.MemoryKnown = c.MemoryKnown && memory > 0
	if c.f.CPU == 0 {
		c.used += in.CPU.Seconds()
	}
	ready := in.Ready
	if ready == 0 {
		ready = end
	}
	if c.bills("start") {
		c.bill(memory, ready.Sub(in.Spawned))
	}
	return end.Sub(ready)
}

// invocations adds a stretch in which an instance was busy.
func (c *costing) invocations(memory int64, d time.Duration) {
	if c.bills("invocation") {
		c.bill(memory, d)
	}
}

// idle adds the time for which an instance was not busy.
func (c *costing) idle(memory int64, d time.Duration) {
	if c.bills("idle") && d > 0 {
		c.bill(memory, d)
	}
}

// total returns the cost with n invocations.
func (c *costing) total(n int) *Cost {
	if c.f.Prepared > 0 && c.bills("prepare") {
		c.bill(c.f.Memory, c.f.Prepared)
		c.MemoryKnown = c.MemoryKnown && c.f.Memory > 0
	}
	out := c.Cost
	out.CPU += c.used * c.rates.CPUSecond
	out.Requests = float64(n) * c.rates.Request
	out.Total = out.Memory + out.CPU + out.Requests
	if n > 0 {
		per := out.Total / float64(n) * 1e6
		out.PerMillion = &per
	}
	return &out
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
