package findings

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
)

// neighbours returns enough rows for the calls to upstreams and the spans.
func (m *Model) neighbours() (n int) {
	for _, f := range m.page.Summary.Functions {
		n += 2*len(f.Upstreams) + min(len(f.Spans), mostSpans) + 4
	}
	return n
}

// edge is a right edge of a table, with its title.
type edge struct {
	title string
	at    int
}

// heading draws the titles of columns, and returns the edge of each; 0 where it has no room.
func (m *Model) heading(c *canvas.Canvas, y, from int, columns []edge) (edges []int) {
	for _, col := range columns {
		at := from + col.at
		if at >= m.w {
			at = 0
		} else {
			c.Right(at, y, canvas.Dim, col.title)
		}
		edges = append(edges, at)
	}
	return edges
}

// put draws the values of a row at their edges.
func put(c *canvas.Canvas, y int, edges []int, values []string, bad map[int]bool) {
	for i, v := range values {
		style := canvas.Plain
		switch {
		case bad[i] && v != "0":
			style = canvas.Bad
		case v == "0" || v == "–":
			style = canvas.Dim
		}
		if edges[i] > 0 {
			c.Right(edges[i], y, style, v)
		}
	}
}

// drawUpstreams draws what each function called, and how much of its time that is.
func (m *Model) drawUpstreams(c *canvas.Canvas, y int) int {
	rows := m.page.CallRows()
	if len(rows) == 0 {
		return y
	}
	y = m.section(c, y, "Calls to upstreams, ms", 2)
	name := min(36, m.w/3)
	edges := m.heading(c, y, name, []edge{{title: "n", at: 8}, {title: "each", at: 14}, {title: "p50", at: 23},
		{title: "p95", at: 32}, {title: "of warm", at: 41}, {title: "failed", at: 49}, {title: "missing", at: 58},
		{title: "replayed", at: 68}})
	y++
	for i := range rows {
		r := &rows[i]
		x := c.PutUpTo(1, y, name, canvas.Bold, r.Function)
		x = c.PutUpTo(x, y, name, canvas.Plain, " → "+r.Upstream)
		c.PutUpTo(x+1, y, name, canvas.Dim, r.Mode)
		put(c, y, edges, []string{fmt.Sprint(r.Calls), report.CountText(r.PerInvocation), figure.Millis(r.Ms.P50),
			figure.Millis(r.Ms.P95), report.ShareText(r.Share), fmt.Sprint(r.Failed), fmt.Sprint(r.Missing),
			fmt.Sprint(r.Replayed)}, map[int]bool{5: true, 6: true})
		y++
	}
	for _, fn := range m.page.Functions {
		if own := m.page.Summary.Functions[fn].Own; own != nil && own.Warm.P50 != nil {
			f := m.page.Summary.Functions[fn]
			c.PutUpTo(1, y, m.w-1, canvas.Dim, fmt.Sprintf("%s's own time, without them: %s ms of %s (median, warm)",
				fn,
				figure.Millis(own.Warm.P50), figure.Millis(f.Service.Warm.P50)))
			y++
		}
	}
	return y
}

// mostSpans bounds the spans that are shown of each function.
const mostSpans = 12

// drawSpans draws the spans that functions sent, by their names.
func (m *Model) drawSpans(c *canvas.Canvas, y int) int {
	rows := m.page.SpanRows()
	if len(rows) == 0 {
		return y
	}
	y = m.section(c, y, "Spans, ms: of the warm service time, and without those below them", 2)
	name := min(50, m.w*2/5)
	edges := m.heading(c, y, name, []edge{{title: "n", at: 8}, {title: "each", at: 14}, {title: "p50", at: 23},
		{title: "p95", at: 32}, {title: "of warm", at: 41}, {title: "own", at: 49}, {title: "failed", at: 57}})
	y++
	n := map[string]int{}
	for i := range rows {
		s := &rows[i]
		if n[s.Function]++; n[s.Function] > mostSpans {
			if n[s.Function] == mostSpans+1 {
				c.PutUpTo(3, y, m.w-1, canvas.Dim, "those with less time are left out; the summary in JSON has them")
				y++
			}
			continue
		}
		x := c.PutUpTo(1, y, name, canvas.Bold, s.Function)
		c.PutUpTo(x+1, y, name, canvas.Plain, text.Harmless(s.Name))
		put(c, y, edges, []string{fmt.Sprint(s.N), report.CountText(&s.PerInvocation), figure.Millis(s.Ms.P50),
			figure.Millis(s.Ms.P95), report.ShareText(s.Share), report.ShareText(s.Own), fmt.Sprint(s.Failed)},
			map[int]bool{6: true})
		y++
	}
	return y
}

// askVary asks which setting of an upstream is to be changed: that of the one with the most time, where it is not said
// otherwise.
func (m *Model) askVary() tea.Cmd {
	if len(m.page.Summary.Upstreams) == 0 {
		return msg.Complain("The run has no upstreams: services that its functions call, in the project file's " +
			"upstreams:")
	}
	name, share, function := m.page.Summary.Upstreams[0].Name, -1.0, ""
	for _, r := range m.page.CallRows() {
		if r.Share != nil && *r.Share > share {
			name, share, function = r.Upstream, *r.Share, r.Function
		}
	}
	id := m.Shown()
	return func() tea.Msg {
		return msg.Ask{Title: "Again, with an upstream changed, and compare", Text: name + ".times=0.5",
			Done: func(change string) tea.Cmd { return func() tea.Msg { return Vary{id, change, function} } }}
	}
}
