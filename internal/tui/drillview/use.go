package drillview

import (
	"fmt"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/tui/canvas"
)

func mib(n int64) float64 { return float64(n) / (1 << 20) }

// togetherShown reports whether there is a row for all functions together.
func (m *Model) togetherShown() bool {
	return m.live && m.h >= 30 && !m.cold() && len(m.chart.Run().Functions) > 1
}

// limitOfAll returns the limit for all functions together.
func (m *Model) limitOfAll() int {
	if m.live && m.panel.all > 0 {
		return m.panel.all
	}
	return m.chart.Run().Concurrency
}

// limitsOf returns the limits that hold for a function, or held at the beginning of
// a run that is over.
func (m *Model) limitsOf(fn int) plan.Limits {
	if m.live && fn < len(m.panel.each) {
		return m.panel.each[fn]
	}
	f := &m.chart.Run().Functions[fn]
	return plan.Limits{Max: f.Max, PerInstance: f.PerInstance, KeepWarm: f.KeepWarm, Guaranteed: f.Guaranteed}
}

// lately is how long a peak is shown.
const lately = clock.Time(2 * time.Second)

// peaks returns the most that was in flight at each function in the last moments of a drill in
// progress, and at all of them together.
func (m *Model) peaks() (each []int, all int) {
	r := m.chart.Run()
	each = make([]int, len(r.Functions))
	if !m.live {
		return each, 0
	}
	now := make([]int, len(r.Functions)) // going back in time: what was in flight before the next change
	for fn, l := range m.looks[:min(len(m.looks), len(now))] {
		now[fn] = l.InFlight
	}
	for i := len(r.Levels) - 1; i >= 0 && r.Levels[i].At > r.Length-lately; i-- {
		l := &r.Levels[i]
		now[l.Function] = int(l.InFlight)
		each[l.Function] = max(each[l.Function], int(l.InFlight))
		sum := 0
		for _, n := range now {
			sum += n
		}
		all = max(all, sum)
	}
	return each, all
}

// drawUse draws how much of a limit is in use: what is in flight, what starts for
// a waiting one, and what is free; of the free part that which is kept for the
// function is marked, and the most that was in use a moment ago.
func drawUse(c *canvas.Canvas, x, y, cells, used, starting, limit, own, peak int) {
	most := max(limit, used+starting, 1)
	at := func(n int) int { return (n*cells + most - 1) / most }
	for i := range cells {
		switch {
		case i < at(used):
			c.Set(x+i, y, canvas.Warm, '━')
		case i < at(used+starting):
			c.Set(x+i, y, canvas.Cold, '╍')
		case i < at(own):
			c.Set(x+i, y, canvas.Dim, '┅')
		default:
			c.Set(x+i, y, canvas.Faint, '┈')
		}
	}
	if peak = min(peak, most); peak > used+starting {
		c.Set(x+max(at(peak)-1, 0), y, canvas.Warm, '╎')
	}
	if used+starting > limit { // until what is too much has finished
		c.Set(x+max(min(at(limit), cells-1), 0), y, canvas.Bad, '┃')
	}
}

// usage returns what the running instances of a function use: the memory of the one
// that has most, and the processors of all. bad reports whether the memory
// is nearly at its bound.
func (m *Model) usage(fn int32) (memory, cpus string, bad bool) {
	r := m.chart.Run()
	of := &r.Functions[fn]
	peak, load, any := int64(0), 0.0, false
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function != fn || m.live && in.Stopped > 0 {
			continue
		}
		peak = max(peak, in.Peak)
		load += in.Load
		any = any || in.Load > 0
	}
	switch {
	case peak > 0 && of.Memory > 0:
		memory = fmt.Sprintf("%.0f/%.0f", mib(peak), mib(of.Memory))
	case peak > 0:
		memory = fmt.Sprintf("%.0f", mib(peak))
	default:
		memory = "–"
	}
	if cpus = "–"; any {
		cpus = fmt.Sprintf("%.2f", load)
	}
	return memory, cpus, of.Memory > 0 && peak > of.Memory/10*9
}

// refusals returns why requests were rejected, the most common first.
func (m *Model) refusals() string {
	return report.RefusalsText(&m.tally.Refused)
}

// changesShown reports whether there is a row for what was changed.
func (m *Model) changesShown() bool { return len(m.chart.Run().Changes) > 0 }

// drawChanges draws what was changed, the latest first; when is marked at the head of the lanes.
func (m *Model) drawChanges(c *canvas.Canvas, y int, w draw.Window) int {
	if !m.changesShown() {
		return y
	}
	r := m.chart.Run()
	c.Put(1, y, canvas.Dim, "changed")
	shown := ""
	for _, x := range r.Changes {
		at := w.At(x.At)
		if at < 0 || at >= w.Cells {
			continue
		}
		of := ""
		if x.Function >= 0 {
			of = r.Functions[x.Function].Name + " "
		}
		text := fmt.Sprintf("▾ %.1f s %s%s", x.At.Seconds(), of, x.Text)
		if shown = text + "   " + shown; len(shown) > 4*m.w {
			break
		}
	}
	c.PutUpTo(left, y, m.w-1, canvas.Plain, shown)
	return y + 1
}
