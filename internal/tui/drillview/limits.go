package drillview

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/input"
	"nightdrill.dev/internal/tui/pane"
)

// SetLimits asks the shell to change a function's limits now.
type SetLimits struct {
	Function int
	Limits   plan.Limits
}

// SetAll asks the shell to change the limit for all functions together.
type SetAll struct{ Concurrency int }

// Replace asks the shell to replace a function's instances, as by a new version.
type Replace struct{ Function int }

// LimitKeys are the keys of the limits' panel.
var LimitKeys = struct{ Open, Cell, More, Away, Replace, Close key.Binding }{
	Open:    pane.Bind("limits", "e"),
	Cell:    key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓←→", "choose a limit")),
	More:    key.NewBinding(key.WithKeys("+", "=", "-", "_"), key.WithHelp("+ - or a value", "change it now")),
	Away:    pane.Bind("reject everything, or not", "t"),
	Replace: pane.Bind("replace the instances", "r"),
	Close:   key.NewBinding(key.WithKeys("esc", "e"), key.WithHelp("esc", "close")),
}

// panel is where limits are changed while a drill runs.
type panel struct {
	open      bool
	all       int
	each      []plan.Limits
	near      []session.Neighbour // upstreams, below the functions
	row, cell int                 // row 0 is for the project total
	typed     *input.Line         // a value that is being typed; nil for none
	said      string              // why the last change was not made, or what it was
	bad       bool
}

// cell is one of a function's limits in the panel.
type cell struct {
	title, name string // name is what the project file calls it
	get         func(*plan.Limits) string
	step        func(*plan.Limits, int)
}

func wholeCell(title, name string, of func(*plan.Limits) *int, least int) cell {
	return cell{title, name,
		func(l *plan.Limits) string { return strconv.Itoa(max(*of(l), least)) },
		func(l *plan.Limits, by int) { *of(l) = max(*of(l)+by, least) }}
}

var idleSteps = []time.Duration{0, 100 * time.Millisecond, 250 * time.Millisecond, 500 * time.Millisecond, time.Second,
	2 * time.Second, 5 * time.Second, 10 * time.Second,
	20 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// from none at all to none for long
var startSteps = []time.Duration{0, 10 * time.Millisecond, 20 * time.Millisecond, 50 * time.Millisecond,
	100 * time.Millisecond, 200 * time.Millisecond, 500 * time.Millisecond,
	time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second}

// next returns the step above or below a duration.
func next(steps []time.Duration, d time.Duration, by int) time.Duration {
	i, there := slices.BinarySearch(steps, d)
	if by < 0 || there {
		i += by
	}
	return steps[min(max(i, 0), len(steps)-1)]
}

var cells = []cell{
	wholeCell("max", "max", func(l *plan.Limits) *int { return &l.Max }, 0),
	wholeCell("guaranteed", "guaranteed", func(l *plan.Limits) *int { return &l.Guaranteed }, 0),
	wholeCell("per instance", "per_instance", func(l *plan.Limits) *int { return &l.PerInstance }, 1),
	wholeCell("keep warm", "keep_warm", func(l *plan.Limits) *int { return &l.KeepWarm }, 0),
	{"idle after", "idle_after", func(l *plan.Limits) string { return l.IdleAfter.String() },
		func(l *plan.Limits, by int) { l.IdleAfter = next(idleSteps, l.IdleAfter, by) }},
	{"starts", "start_rate", func(l *plan.Limits) string { return l.StartRate() },
		func(l *plan.Limits, by int) { l.StartEvery = next(startSteps, l.StartEvery, -by) }},
	wholeCell("start burst", "start_burst", func(l *plan.Limits) *int { return &l.StartBurst }, 1),
}

// Limits sets the limits that hold now.
func (m *Model) Limits(all int, each []plan.Limits) { m.panel.all, m.panel.each = all, each }

// Changed reports the result of a change that was requested: why it was not made, or nil.
func (m *Model) Changed(err error) {
	if m.panel.bad = err != nil; err != nil {
		m.panel.said = "not changed: " + err.Error()
	} else {
		m.panel.said = "changed, from now on"
	}
}

// Typing reports whether keys are for the limits' panel alone.
func (m *Model) Typing() bool { return m.panel.open && m.live }

// Paste handles a paste into a value.
func (m *Model) Paste(x tea.PasteMsg) tea.Cmd {
	if p := &m.panel; p.typed == nil {
		p.typed = input.New("", nil)
	}
	m.panel.typed.Update(x)
	return nil
}

// limitKey handles a key of the panel.
func (m *Model) limitKey(k tea.KeyPressMsg) tea.Cmd {
	p := &m.panel
	text := k.String()
	switch {
	case text == "enter" && p.typed != nil:
		typed := strings.TrimSpace(p.typed.Value())
		p.typed = nil
		if p.onUpstream() >= 0 {
			return m.typedUpstream(typed)
		}
		if _, err := strconv.ParseFloat(typed, 64); err == nil && p.row > 0 && cells[p.cell].name == "start_rate" {
			if typed += "/s"; typed == "0/s" {
				typed = "unbounded"
			}
		}
		return m.edit(func(l *plan.Limits, c *cell) error { return l.Set(c.name, typed) },
			func() (int, error) { return strconv.Atoi(typed) })
	case text == "esc" && p.typed != nil:
		p.typed = nil
		return nil
	case p.typed != nil:
		p.typed.Update(k)
		return nil
	case len(text) == 1 && text[0] >= '0' && text[0] <= '9', text == "u" && m.panel.cell == 5 && p.onUpstream() < 0,
		text == "r" && p.onUpstream() >= 0 && p.cell == 4, text == "s" && p.onUpstream() >= 0 && p.cell == 4:
		p.typed = input.New("", nil)
		p.typed.Update(k)
		return nil
	case key.Matches(k, LimitKeys.Close):
		p.open, p.said = false, ""
		return nil
	}
	defer func() { p.cell = min(p.cell, p.cellsHere()-1) }()
	switch text {
	case "up":
		p.row = max(p.row-1, 0)
	case "down":
		p.row = min(p.row+1, len(p.each)+len(p.near))
	case "left":
		p.cell = max(p.cell-1, 0)
	case "right":
		p.cell = min(p.cell+1, p.cellsHere()-1)
	case "+", "=", "-", "_":
		by := 1
		if text == "-" || text == "_" {
			by = -1
		}
		if p.onUpstream() >= 0 {
			return m.editUpstream(func(b *plan.Behaviour, c *nearCell) error { c.step(b, by); return nil })
		}
		return m.edit(func(l *plan.Limits, c *cell) error { c.step(l, by); return nil },
			func() (int, error) { return p.all + by, nil })
	case "t":
		if p.row > 0 && p.onUpstream() < 0 {
			return m.edit(func(l *plan.Limits, _ *cell) error { l.TurnAway = !l.TurnAway; return nil }, nil)
		}
	case "r":
		if fn := p.row - 1; fn >= 0 && fn < len(p.each) {
			return func() tea.Msg { return Replace{fn} }
		}
	}
	return nil
}

// edit requests a change of the limit under the cursor.
func (m *Model) edit(change func(*plan.Limits, *cell) error, all func() (int, error)) tea.Cmd {
	p := &m.panel
	if p.row == 0 {
		n, err := all()
		if err != nil {
			m.Changed(fmt.Errorf("must be a whole number"))
			return nil
		}
		return func() tea.Msg { return SetAll{n} }
	}
	fn := p.row - 1
	if fn >= len(p.each) {
		return nil
	}
	l := p.each[fn]
	if err := change(&l, &cells[p.cell]); err != nil {
		m.Changed(err)
		return nil
	}
	return func() tea.Msg { return SetLimits{fn, l} }
}

// drawLimits draws the panel.
func (m *Model) drawLimits(c *canvas.Canvas, y, tall int) {
	p := &m.panel
	r := m.chart.Run()
	x, width := 0, min(m.w, 130)
	c.Rule(y, "Current limits")
	name := 16
	if width < 100 {
		name = 11
	}
	pitch := (width - name - 16) / len(cells)
	edge := func(i int) int { return x + name + (i+1)*pitch }
	y++
	for i := range cells {
		title := cells[i].title
		switch {
		case pitch < 10:
			title = [...]string{"max", "guar.", "each", "warm", "idle", "starts", "burst"}[i]
		case pitch < 13 && i == 1:
			title = "guar."
		case pitch < 13 && i == 2:
			title = "each"
		}
		style := canvas.Dim
		if i == p.cell && p.onUpstream() < 0 {
			style = canvas.Bold
		}
		c.Right(edge(i), y, style, title)
	}
	top := max(p.row-(tall-5), 0)
	y0 := y + 1
	for row := top; row <= len(p.each)+len(p.near) && y0-y-1 < tall-4; row++ {
		at := y0
		y0++
		style := canvas.Plain
		if row == p.row {
			style = canvas.Warm
		}
		if i := row - 1 - len(p.each); i >= 0 {
			if i == 0 && y0-y-1 < tall-4 { // a heading of their own
				c.Put(x+2, at, canvas.Dim, "upstreams")
				for k := range nearCells {
					style := canvas.Dim
					if k == p.cell && p.onUpstream() >= 0 {
						style = canvas.Bold
					}
					c.Right(edge(k), at, style, nearCells[k].title)
				}
				at, y0 = y0, y0+1
			}
			m.drawUpstream(c, at, x+name, edge, style, row, i)
			continue
		}
		if row == 0 {
			c.Put(x+2, at, style, "project total")
			m.putCell(c, edge(0), at, row, 0, strconv.Itoa(p.all))
			continue
		}
		l := &p.each[row-1]
		c.PutUpTo(x+2, at, x+name, style, r.Functions[row-1].Name)
		for i := range cells {
			if i == 6 && l.StartEvery == 0 {
				m.putCell(c, edge(i), at, row, i, "–")
				continue
			}
			text := cells[i].get(l)
			if text == "unbounded" && pitch < 10 {
				text = "any"
			}
			m.putCell(c, edge(i), at, row, i, text)
		}
		if l.TurnAway {
			c.PutUpTo(edge(len(cells)-1)+2, at, x+width-1, canvas.Bad, "✗ rejects")
		} else {
			c.PutUpTo(edge(len(cells)-1)+2, at, x+width-1, canvas.Dim, "accepts")
		}
	}
	style := canvas.Good
	if p.bad {
		style = canvas.Bad
	}
	c.PutUpTo(x+2, y+tall-3, x+width-2, style, p.said)
	hint := "+ - by a step, or type a value and enter; t rejects everything; r replaces the instances; esc closes"
	if width < 106 {
		hint = "+ - or a value and enter; t rejects; r replaces; esc closes"
	}
	c.PutUpTo(x+2, y+tall-2, x+width-2, canvas.Dim, hint)
}

// putCell writes a value, with the cursor where it is.
func (m *Model) putCell(c *canvas.Canvas, edge, y, row, cell int, text string) {
	style := canvas.Plain
	if p := &m.panel; row == p.row && (cell == p.cell || row == 0) {
		style = canvas.Chosen
		if p.typed != nil {
			text = p.typed.Value() + "▏"
		}
		text = " " + text + " "
		edge++
	}
	c.Right(edge, y, style, text)
}
