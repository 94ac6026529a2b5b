package drillview

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
)

// leastLanes is how many rows above what is docked stay for arrivals and lanes, and leastDock the fewest
// that are docked.
const (
	leastLanes = 8
	leastDock  = 5
)

// dockRows returns how many rows below the lanes have what was opened: the limits, an invocation or
// the logs; 0 where nothing is open.
func (m *Model) dockRows() int {
	need := 0
	switch {
	case m.Typing():
		need = len(m.panel.each) + 5
		if len(m.panel.near) > 0 {
			need += len(m.panel.near) + 1
		}
	case m.details:
		left, right := m.detailLines()
		need = min(max(len(left), len(right))+1, m.h*3/5)
	case m.logs.open:
		need = m.h * 3 / 10
	default:
		return 0
	}
	return max(min(need+m.grow, m.h-leastLanes), leastDock)
}

// resize makes the lower part two rows larger, or smaller; where nothing is docked, one of its sections.
func (m *Model) resize(larger bool) {
	by := 2
	if !larger {
		by = -2
	}
	if before := m.dockRows(); before > 0 {
		if m.grow += by; m.dockRows() == before {
			m.grow -= by
		}
		return
	}
	m.lower = min(max(m.lower-by/2, 0), 2)
}

// drawDock draws what was opened, below the lanes that it explains.
func (m *Model) drawDock(c *canvas.Canvas, y, rows int) {
	switch {
	case m.Typing():
		m.drawLimits(c, y, rows)
	case m.details:
		m.drawDetails(c, y, rows)
	default:
		m.drawLogs(c, y, rows)
	}
}

// sideBySide is the width from which an invocation and its instance stand side by side.
const sideBySide = 120

// column returns how wide the lines of an invocation may be.
func (m *Model) column() int {
	if m.w < sideBySide {
		return m.w - 4
	}
	return m.w/2 - 2
}

// detailLines returns what is shown of the invocation and the instance under the cursor: side by side
// where there is room, otherwise all in the first column.
func (m *Model) detailLines() (left, right []line) {
	lanes := m.chart.Lanes()
	if m.lane < 0 || m.lane >= len(lanes) {
		return nil, nil
	}
	v, in := m.under(), &lanes[m.lane].Instance
	if v == nil {
		return m.instanceLines(in), nil
	}
	left = append(m.invocationLines(v), m.ownLines()...)
	right = append(m.instanceLines(in), m.byteLines(v)...)
	if m.w < sideBySide {
		return append(left, right...), nil
	}
	return left, right[1:] // without the empty line between the two
}

// drawDetails draws the instance or the invocation under the cursor.
func (m *Model) drawDetails(c *canvas.Canvas, y, rows int) {
	lanes := m.chart.Lanes()
	if m.lane < 0 || m.lane >= len(lanes) {
		return
	}
	l := lanes[m.lane]
	name := fmt.Sprintf("%s-%d", m.chart.Run().Functions[l.Instance.Function].Name, l.Instance.Number)
	if m.under() != nil {
		name = fmt.Sprintf("%s, invocation %d of %d", name, m.call+1, len(l.Invocations))
	}
	c.Rule(y, name)
	left, right := m.detailLines()
	n := max(len(left), len(right))
	m.scroll = max(min(m.scroll, n-rows+1), 0)
	split := m.w
	if right != nil {
		split = m.w / 2
	}
	column := func(lines []line, x, edge int) {
		for i := range rows - 1 {
			k := i + m.scroll
			if k >= len(lines) {
				break
			}
			row := &lines[k]
			at := c.PutUpTo(x, y+1+i, edge, canvas.Dim, row.name)
			if row.name != "" || !row.whole {
				at = x + 17
			}
			c.PutUpTo(at, y+1+i, edge, row.style, row.value)
		}
	}
	column(left, 2, split-1)
	column(right, split+1, m.w-1)
	if hidden := n - m.scroll - rows + 1; hidden > 0 {
		c.Right(m.w-2, y, canvas.Dim, fmt.Sprintf(" %d more lines: PgDn ", hidden))
	}
}

// copy copies the log where it is shown, or what is known of the invocation under the cursor.
func (m *Model) copy() tea.Cmd {
	var lines []string
	switch v := m.under(); {
	case m.logs.open:
		for _, x := range m.matching() {
			lines = append(lines, fmt.Sprintf("%.3f s  %s  %s", x.At.Seconds(), x.Instance, x.Text))
		}
		return msg.Copy("the log", strings.Join(lines, "\n"))
	case v == nil:
		return msg.Complain("No invocation is chosen: ↑↓ choose a lane, ←→ an invocation.")
	default:
		lines = append(lines, fmt.Sprintf("%s, invocation %d", m.instanceName(), m.call+1))
		for _, x := range append(append(m.invocationLines(v), m.ownLines()...), m.byteLines(v)...) {
			lines = append(lines, strings.TrimSpace(x.name+"  "+x.value))
		}
		return msg.Copy("the invocation", strings.Join(lines, "\n"))
	}
}
