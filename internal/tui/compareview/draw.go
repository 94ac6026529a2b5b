package compareview

import (
	"fmt"
	"math"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
)

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	out := canvas.New(m.w, m.h, theme)
	m.scroll.Length = 0
	switch {
	case m.form != nil:
		m.drawForm(out)
		return out
	case m.trouble != "":
		canvas.Flow(out, 2, 1, m.w-2, canvas.Bad, m.trouble)
		out.Put(2, 4, canvas.Dim, "o and n choose another run; v sets up a comparison.")
		return out
	case m.loading:
		out.Put(2, 1, canvas.Dim, "Reading the runs and comparing them …")
		return out
	case len(m.all) == 0:
		m.drawEmpty(out)
		return out
	}
	c := m.all[min(m.at, len(m.all)-1)]
	page := canvas.New(m.w, 60+len(c.Sentences)*6+len(c.Sides)*40+len(c.Replies)+8*len(c.Warnings), theme)
	m.scroll.Fit(m.drawPage(page, c), m.h)
	m.scroll.Draw(out, 0, page)
	m.scroll.Rest(out)
	return out
}

func (m *Model) drawEmpty(out *canvas.Canvas) {
	out.Put(2, 1, canvas.Plain, "Which is better, and is that more than noise?")
	for i, text := range []string{
		"v   sets up a comparison: variants of a function, started cold and in turns; one drill under two limits; " +
			"two runs",
		"5 r marks two past runs with space, and compares them with c",
		"On the command line: nightdrill compare FUNCTION, or RUN RUN, or DRILL --limit … --against …",
	} {
		canvas.Flow(out, 2, 3+2*i, m.w-2, canvas.Dim, text)
	}
}

// styleOf returns a side's style: the first is what the others are set against.
func styleOf(side int) canvas.Style {
	return [...]canvas.Style{canvas.Dim, canvas.Warm, canvas.Cold, canvas.Field, canvas.Text}[min(side, 4)]
}

func (m *Model) drawPage(page *canvas.Canvas, c *measure.Comparison) int {
	y := 0
	if len(m.all) > 1 {
		x := 1
		for i, other := range m.all {
			style := canvas.Dim
			if i == m.at {
				style = canvas.Active
			}
			x = page.Put(x, y, style, other.Title) + 2
		}
		y++
	}
	page.Rule(y, c.Title+": verdicts")
	y++
	for _, text := range c.Sentences {
		y = canvas.Flow(page, 2, y, m.w-2, canvas.Plain, text)
	}
	var plain []report.Row
	title := ""
	for _, r := range report.Rows(c) {
		if r.Title != "" {
			title = r.Title
		}
		if r.Between == nil {
			plain = append(plain, r)
			continue
		}
		if title != "" {
			page.Rule(y, title+": medians and percentiles with their 95 % intervals; ┊ no difference")
			y, title = y+1, ""
		}
		y = m.drawFigure(page, y, c, &r)
	}
	y = m.drawPlain(page, y, c, plain)
	y = m.drawMemory(page, y, c)
	y = m.drawReplies(page, y, c)
	if len(c.Warnings) > 0 {
		page.Rule(y, "Caveats")
		y++
	}
	return canvas.Warnings(page, y, m.w-2, canvas.Plain, c.Warnings)
}

// longest returns the width of the sides' labels.
func longest(c *measure.Comparison) (w int) {
	for i := range c.Sides {
		w = max(w, ansi.StringWidth(c.Sides[i].Label))
	}
	return min(w, 24)
}

// drawFigure draws a figure of all sides on one axis, each with its interval.
func (m *Model) drawFigure(page *canvas.Canvas, y int, c *measure.Comparison, r *report.Row) int {
	what := 22
	if m.w < 100 {
		what = 18
	}
	label := longest(c) + 2
	strip := what + label + 10
	mark := 36
	cells := max(m.w-strip-mark-2, 0)
	axis := draw.FigureOf(*r).Axis
	at := func(v float64) int { return strip + min(int(axis.At(v)*float64(cells)), cells-1) }
	name := strings.TrimSpace(r.What)
	if r.Unit != "" {
		name += ", " + r.Unit
	}
	edge := strip
	if cells < 12 { // without an axis, in the row of the first side
		edge = what
	}
	x := page.PutUpTo(1, y, edge, canvas.Bold, name)
	if cells >= 12 {
		for _, t := range axis.Ticks() {
			label := draw.Short(t.Value)
			if to := at(t.Value); to > x && to+len(label) < m.w-mark {
				x = page.Put(to, y, canvas.Dim, "╷"+label)
			}
		}
		y++
	}
	for i, v := range r.Values {
		if v == nil && len(r.Values) > 2 {
			continue // of several, those that have it are enough
		}
		page.PutUpTo(what, y, what+label-1, styleOf(i), text.Harmless(c.Sides[i].Label))
		page.Right(what+label+8, y, canvas.Plain, r.Text(i))
		if cells >= 12 {
			for _, t := range axis.Ticks() {
				page.Set(at(t.Value), y, canvas.Faint, '·')
			}
			if r.Values[0] != nil { // where it would be without a difference
				page.Set(at(*r.Values[0]), y, canvas.Faint, '┊')
			}
		}
		if v != nil && cells >= 12 {
			if b := r.Between[i]; b[0] != nil {
				from, to := at(*b[0]), at(*b[1])
				for k := from; k <= to; k++ {
					page.Set(k, y, styleOf(i), '─')
				}
				page.Set(from, y, styleOf(i), '╶')
				page.Set(to, y, styleOf(i), '╴')
			}
			page.Set(at(*v), y, styleOf(i), '●')
		}
		if i > 0 && i <= len(r.Contrasts) {
			if k := r.Contrasts[i-1]; k != nil {
				style := canvas.Dim
				if k.Beyond {
					style = canvas.Bold
				}
				page.PutUpTo(max(m.w-mark, strip), y, m.w-1, style, report.ContrastMark(k))
			}
		}
		y++
	}
	return y
}

// drawPlain draws the figures that have no interval as a table.
func (m *Model) drawPlain(page *canvas.Canvas, y int, c *measure.Comparison, rows []report.Row) int {
	if len(rows) == 0 {
		return y
	}
	page.Rule(y, "Other measures")
	y++
	edge := func(i int) int { return 40 + (i+1)*min(max(longest(c)+3, 12), (m.w-42)/max(len(c.Sides), 1)) }
	for i := range c.Sides {
		page.Right(edge(i), y, styleOf(i), text.Harmless(c.Sides[i].Label))
	}
	y++
	for _, r := range rows {
		page.PutUpTo(1, y, 28, canvas.Plain, r.What)
		page.PutUpTo(28, y, 40, canvas.Dim, r.Unit)
		for i := range r.Values {
			page.Right(edge(i), y, canvas.Plain, r.Text(i))
		}
		y++
	}
	return y
}

// drawMemory draws the memory that each side held over its run.
func (m *Model) drawMemory(page *canvas.Canvas, y int, c *measure.Comparison) int {
	most, cells := 0.0, m.w-20-longest(c)
	for i := range c.Sides {
		for _, v := range c.Sides[i].MiB {
			most = max(most, v)
		}
	}
	if most == 0 || cells < 10 {
		return y
	}
	page.Rule(y, "Memory held over time")
	y++
	for i := range c.Sides {
		s := &c.Sides[i]
		x := page.PutUpTo(1, y, longest(c)+2, styleOf(i), text.Harmless(s.Label))
		x = max(x, longest(c)+3)
		peak := 0.0
		n := min(cells, len(s.MiB))
		for k := range n {
			v := 0.0
			for j := k * len(s.MiB) / n; j < (k+1)*len(s.MiB)/n; j++ {
				v = max(v, s.MiB[j])
			}
			peak = max(peak, v)
			page.Set(x+k, y, styleOf(i), draw.Bar(int(math.Ceil(v/most*8)), 8))
		}
		page.PutUpTo(x+n+1, y, m.w-1, canvas.Dim, fmt.Sprintf("to %.0f MiB", peak))
		y++
	}
	return y
}

// drawReplies lists the events that were answered otherwise.
func (m *Model) drawReplies(page *canvas.Canvas, y int, c *measure.Comparison) int {
	if c.Compared == 0 {
		return y
	}
	page.Rule(y, fmt.Sprintf("Replies: of %d events, %d got a different reply from that of %s", c.Compared, c.Differed,
		c.Sides[0].Label))
	y++
	for _, r := range c.Replies {
		x := page.PutUpTo(1, y, longest(c)+3, styleOf(r.Side), text.Harmless(c.Sides[r.Side].Label))
		page.PutUpTo(max(x+1, longest(c)+4), y, m.w-1, canvas.Plain, text.Harmless(r.Event+": "+r.Words))
		y++
	}
	return y
}
