package drillview

import (
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
)

// SetUpstream asks the shell to change how the stand-in for an upstream behaves now.
type SetUpstream struct {
	Upstream  int
	Behaviour plan.Behaviour
}

// Upstreams sets the upstreams as they work now.
func (m *Model) Upstreams(all []session.Neighbour) { m.panel.near = all }

// nearCell is a setting of an upstream in the panel.
type nearCell struct {
	title, name string // name is what the command line calls it
	get         func(*plan.Behaviour) string
	step        func(*plan.Behaviour, int)
}

var (
	timesSteps = []float64{0.1, 0.25, 0.5, 0.75, 1, 1.5, 2, 3, 5, 10, 20, 50, 100}
	shareSteps = []fault.Share{0, fault.Whole / 1000, fault.Whole / 200, fault.Whole / 100, fault.Whole / 50,
		fault.Whole / 20, fault.Whole / 10, fault.Whole / 5, fault.Whole / 2, fault.Whole}
	latencySteps = []time.Duration{time.Millisecond, 2 * time.Millisecond, 5 * time.Millisecond, 10 * time.Millisecond,
		20 * time.Millisecond, 40 * time.Millisecond, 100 * time.Millisecond, 200 * time.Millisecond,
		400 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second}
	faults = []string{"503", "500", "429", "reset", "stall"}
)

// stepIn returns the value after or before another in a sorted list.
func stepIn[T int | float64 | fault.Share](steps []T, v T, by int) T {
	at := 0
	for at < len(steps)-1 && steps[at] < v {
		at++
	}
	return steps[min(max(at+by, 0), len(steps)-1)]
}

// latencyCell is a percentile of a drawn latency; setting one sets the other where there was none.
func latencyCell(title string, of func(*plan.Behaviour) *time.Duration) nearCell {
	return nearCell{title, title, func(b *plan.Behaviour) string {
		if *of(b) == 0 {
			return "recorded"
		}
		return of(b).String()
	}, func(b *plan.Behaviour, by int) {
		was := *of(b)
		if was == 0 {
			was = latencySteps[5]
		}
		b.Times = 0
		*of(b) = next(latencySteps, was, by)
		if b.P50 == 0 {
			b.P50 = *of(b)
		}
		b.P99 = max(b.P99, b.P50)
	}}
}

var nearCells = []nearCell{
	{"latency ×", "times", func(b *plan.Behaviour) string {
		if b.Times == 0 {
			return "1"
		}
		return strconv.FormatFloat(b.Times, 'g', 4, 64)
	}, func(b *plan.Behaviour, by int) {
		was := b.Times
		if was == 0 {
			was = 1
		}
		b.P50, b.P99, b.Times = 0, 0, stepIn(timesSteps, was, by)
	}},
	latencyCell("p50", func(b *plan.Behaviour) *time.Duration { return &b.P50 }),
	latencyCell("p99", func(b *plan.Behaviour) *time.Duration { return &b.P99 }),
	{"fail", "fail", func(b *plan.Behaviour) string { return plan.ShareText(b.Fail) },
		func(b *plan.Behaviour, by int) { b.Fail = stepIn(shareSteps, b.Fail, by) }},
	{"with", "status", func(b *plan.Behaviour) string { return b.FaultText() }, func(b *plan.Behaviour, by int) {
		at := 0
		for i, f := range faults {
			if f == b.FaultText() {
				at = i
			}
		}
		_ = b.SetStatus(faults[(at+by+len(faults))%len(faults)]) // all of them are valid
	}},
	{"at a time", "concurrency", func(b *plan.Behaviour) string {
		if b.Concurrency == 0 {
			return "any"
		}
		return strconv.Itoa(b.Concurrency)
	}, func(b *plan.Behaviour, by int) { b.Concurrency = max(b.Concurrency+by, 0) }},
}

// onUpstream returns the place of the upstream under the panel's cursor, or -1.
func (p *panel) onUpstream() int {
	if i := p.row - 1 - len(p.each); i >= 0 && i < len(p.near) {
		return i
	}
	return -1
}

// cellsHere returns how many settings the row under the cursor has.
func (p *panel) cellsHere() int {
	if p.onUpstream() >= 0 {
		return len(nearCells)
	}
	return len(cells)
}

// editUpstream requests a change of the setting under the cursor.
func (m *Model) editUpstream(change func(*plan.Behaviour, *nearCell) error) tea.Cmd {
	p := &m.panel
	i := p.onUpstream()
	b := p.near[i].Behaviour
	if err := change(&b, &nearCells[min(p.cell, len(nearCells)-1)]); err != nil {
		m.Changed(err)
		return nil
	}
	return func() tea.Msg { return SetUpstream{i, b} }
}

// typedUpstream takes a value that was typed for a setting of an upstream.
func (m *Model) typedUpstream(typed string) tea.Cmd {
	return m.editUpstream(func(b *plan.Behaviour, c *nearCell) error {
		switch _, err := strconv.ParseFloat(typed, 64); {
		case err == nil && c.name == "fail":
			typed += "%"
		case err == nil && (c.name == "p50" || c.name == "p99"):
			typed += "ms"
		}
		u := plan.Upstream{Behaviour: *b}
		if err := u.Set(c.name, typed); err != nil {
			return err
		}
		if u.P50 > 0 && u.P99 == 0 || c.name == "p50" {
			u.P99 = max(u.P99, u.P50)
		}
		if u.P99 > 0 && u.P50 == 0 {
			u.P50 = u.P99
		}
		*b = u.Behaviour
		return nil
	})
}

// drawUpstream draws an upstream's row of the panel.
func (m *Model) drawUpstream(c *canvas.Canvas, y, name int, edge func(int) int, style canvas.Style, row, i int) {
	u := &m.panel.near[i]
	c.PutUpTo(2, y, name, style, u.Name)
	for k := range nearCells {
		m.putCell(c, edge(k), y, row, k, nearCells[k].get(&u.Behaviour))
	}
	c.PutUpTo(edge(len(cells)-1)+2, y, m.w-1, canvas.Dim, u.Mode.String())
}
