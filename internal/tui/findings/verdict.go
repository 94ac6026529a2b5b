package findings

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
)

// moods are the styles of the parts of a verdict.
var moods = map[report.Mood]canvas.Style{report.Good: canvas.Good, report.Bad: canvas.Bad, report.Neutral: canvas.Dim}

// drawVerdict draws the answer of the run in one line, or in as many as it needs.
func (m *Model) drawVerdict(c *canvas.Canvas, y int) int {
	x := 1
	for i, p := range m.page.Verdict() {
		wide := ansi.StringWidth(p.Text)
		if i > 0 && x+3+wide > m.w-1 {
			x, y = 1, y+1
		} else if i > 0 {
			x = c.Put(x, y, canvas.Faint, " · ")
		}
		x = c.PutUpTo(x, y, m.w-1, moods[p.Mood], p.Text)
	}
	return y + 1
}

// column is a column of the table of functions, by its right edge; 0 where there is no room for it.
type column struct {
	title string
	at    int
}

// layout places the columns of the table of functions, and returns where the causes begin.
func (m *Model) layout() (name int, cols []column, cause int) {
	switch {
	case m.w >= 140:
		return 18, []column{{"cold p50", 26}, {"95 % interval", 41}, {"warm service p50", 59}, {"95 % interval", 74},
			{"cold is", 83}, {"waited p50", 95}, {"rejected", 108}, {"failed", 116}}, 119
	case m.w >= 100:
		return 20, []column{{"cold p50", 29}, {}, {"warm p50", 38}, {}, {"cold is", 46}, {"waited", 54},
			{"rejected", 66}, {"failed", 73}}, 75
	}
	return 20, []column{{"cold p50", 29}, {}, {"warm p50", 38}, {}, {"cold is", 46}, {}, {}, {}}, 48
}

// phrases returns as many of a text's first phrases as fit, or the text where not even one does: what is left out is
// in the sentences under the row.
func phrases(s string, width int) string {
	for short := s; ; {
		if ansi.StringWidth(short) <= width {
			return short
		}
		at := max(strings.LastIndex(short, ", "), strings.LastIndex(short, " ("))
		if at <= 0 {
			return s
		}
		short = short[:at]
	}
}

// drawFunctions draws a row for each function, the worst first, and under those that are open the
// sentences behind it.
func (m *Model) drawFunctions(c *canvas.Canvas, y int) int {
	name, cols, cause := m.layout()
	y = m.section(c, y, "Functions: the worst first; ms", 2)
	for _, col := range cols {
		if col.at > 0 {
			c.Right(col.at, y, canvas.Dim, col.title)
		}
	}
	c.PutUpTo(cause, y, m.w-1, canvas.Dim, "main cause")
	y++
	m.rows, m.rowsAt = m.rows[:0], m.rowsAt[:0]
	all := m.page.FunctionRows()
	var names []string
	for i := range all {
		names = append(names, all[i].Name)
	}
	names = text.Shorten(names, name-4)
	for i, row := range all {
		m.rows, m.rowsAt = append(m.rows, row.Name), append(m.rowsAt, y)
		style := canvas.Plain
		if row.Weight >= report.Rejects {
			style = canvas.Bad
		}
		if len(row.Findings) > 0 {
			mark := "▸"
			if m.open[row.Name] {
				mark = "▾"
			}
			c.Put(1, y, canvas.Dim, mark)
		}
		c.PutUpTo(3, y, name, canvas.Bold, names[i])
		for i, v := range m.cells(&row) {
			if cols[i].at > 0 {
				c.Right(cols[i].at, y, v.Style, v.Text)
			}
		}
		c.PutUpTo(cause, y, m.w-1, style, phrases(text.Harmless(row.Cause), m.w-1-cause))
		if m.row >= 0 && m.row == len(m.rows)-1 && m.cursor < 0 {
			c.Restyle(3, y, m.w-4, canvas.Chosen)
		}
		y++
		if m.open[row.Name] {
			for _, f := range row.Findings {
				y = canvas.Flow(c, 5, y, m.w-2, canvas.Plain, text.Harmless(f.Text))
			}
		}
	}
	for i := range m.page.Findings { // about no function alone
		if f := &m.page.Findings[i]; f.Function == "" && !f.Budget {
			y = canvas.Flow(c, 1, y, m.w-2, canvas.Dim, text.Harmless(f.Text))
		}
	}
	return m.beside(c, y, m.page.Summary.Beside.Latency, m.page.Summary.Beside.Start)
}

// cells returns the cells of a row, in the order of the columns.
func (m *Model) cells(row *report.FunctionRow) []canvas.Span {
	f := &row.Figures
	class := func(of *measure.Figures, style canvas.Style) (value, between canvas.Span) {
		switch {
		case of.P50 == nil && of.N > 0:
			return canvas.Span{Style: canvas.Dim, Text: "–"}, canvas.Span{Style: canvas.Dim,
				Text: fmt.Sprintf("%d of 6", of.N)}
		case of.P50 == nil:
			return canvas.Span{Style: canvas.Dim, Text: "–"}, canvas.Span{}
		case of.P50Lo == nil:
			return canvas.Span{Style: style, Text: figure.Millis(of.P50)},
				canvas.Span{Style: canvas.Dim, Text: fmt.Sprintf("needs %d", of.Needs[0])}
		}
		return canvas.Span{Style: style, Text: figure.Millis(of.P50)},
			canvas.Span{Style: canvas.Dim, Text: report.MedianBetween(of)}
	}
	cold, coldBetween := class(&f.Latency.Cold, canvas.Cold)
	warm, warmBetween := class(&f.Service.Warm, canvas.Warm)
	times := canvas.Span{Style: canvas.Dim, Text: "–"}
	if row.Times != nil {
		times = canvas.Span{Style: canvas.Plain, Text: figure.Ratio(*row.Times) + " ×"}
	}
	lost := func(n int, content string) canvas.Span {
		if n == 0 {
			return canvas.Span{Style: canvas.Dim, Text: "–"}
		}
		return canvas.Span{Style: canvas.Bad, Text: content}
	}
	rejected := ""
	if n := f.Outcomes.Deliveries; n > 0 {
		rejected = fmt.Sprintf("%d  %s", row.Rejected, figure.Percent(float64(row.Rejected)/float64(n)))
	}
	return []canvas.Span{cold, coldBetween, warm, warmBetween, times,
		{Style: canvas.Plain, Text: figure.Millis(f.Wait.Warm.P50)}, lost(row.Rejected, rejected),
		lost(row.Failed, fmt.Sprint(row.Failed))}
}

// moveRow moves the cursor of the table of functions, and reports whether it could: at its end,
// and where the page is scrolled, the page moves.
func (m *Model) moveRow(by int) bool {
	to := m.row + by
	if m.scroll.At > 0 || to < 0 || to >= len(m.rows) {
		return false
	}
	m.row = to
	return true
}

// Opened reports whether any row of the table of functions is open.
func (m *Model) Opened() bool {
	for _, open := range m.open {
		if open {
			return true
		}
	}
	return false
}

// toggle opens or closes the row under the cursor.
func (m *Model) toggle() {
	if m.row >= 0 && m.row < len(m.rows) {
		m.open[m.rows[m.row]] = !m.open[m.rows[m.row]]
	}
}

// Click opens or closes the row that is pointed at, or what is behind the point of a drawing.
func (m *Model) Click(x, y int) tea.Cmd {
	if m.list != nil || m.calls != nil || m.page == nil {
		return nil
	}
	y += m.scroll.At - m.top
	if i := slices.Index(m.rowsAt, y); i >= 0 {
		m.row, m.cursor = i, -1
		m.toggle()
		return nil
	}
	for i := range m.points {
		if p := &m.points[i]; p.y == y && x >= p.x && x < p.x+max(p.w, 1) {
			m.cursor = i
		}
	}
	return nil
}

// copy copies the verdict of the run, with its sentences or with what is under the cursor.
func (m *Model) copy() tea.Cmd {
	if m.page == nil {
		return nil
	}
	content := []string{fmt.Sprintf("run %s of %s · %s", m.page.Summary.Run, m.page.Summary.Drill,
		m.page.VerdictText())}
	if p := m.under(); p != nil {
		content = append(content, p.words)
	} else {
		content = append(content, m.page.Sentences()...)
	}
	return tea.Batch(tea.SetClipboard(strings.Join(content, "\n")), msg.Say("Copied: the verdict, with %s.",
		map[bool]string{true: "what is under the cursor", false: "its sentences"}[m.under() != nil]))
}

// part is a section of the page: its first row, and how many rows stay while one scrolls in it.
type part struct{ y, stays int }

// section begins a section of the page with a title; of its rows, the first stay while one scrolls
// in it: the title, and what the columns are.
func (m *Model) section(c *canvas.Canvas, y int, title string, stays int) int {
	c.Rule(y, title)
	m.parts = append(m.parts, part{y, stays})
	return y + 1
}

// drawStays draws what stays of the section that the page is scrolled into.
func (m *Model) drawStays(out, page *canvas.Canvas) {
	for i := len(m.parts) - 1; i >= 0; i-- {
		if p := m.parts[i]; p.y < m.scroll.At {
			stays := p.stays
			if i+1 < len(m.parts) { // the next one pushes it away
				stays = min(stays, m.parts[i+1].y-m.scroll.At)
			}
			if stays > 0 {
				out.Fill(0, m.top, m.w, stays)
				out.DrawTop(m.top, page, p.y, stays)
			}
			return
		}
	}
}
