package findings

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
)

// drawPage draws the whole page, and returns how many rows it has: the verdict, a row for each
// function, then the drawings, then the tables.
func (m *Model) drawPage(page *canvas.Canvas) int {
	m.parts = m.parts[:0]
	y := m.drawVerdict(page, 0)
	y = m.drawFunctions(page, y)
	y = m.drawBudgets(page, y)
	y = m.drawWays(page, y)
	y = m.drawLatencies(page, y)
	y = m.drawUpstreams(page, y)
	y = m.drawSpans(page, y)
	y = m.drawLadder(page, y)
	y = m.drawWarmUps(page, y)
	y = m.drawTimes(page, y)
	y = m.drawRates(page, y)
	y = m.drawSources(page, y)
	y = m.drawStatuses(page, y)
	y = m.drawFailures(page, y)
	y = m.drawUse(page, y)
	y = m.drawChanges(page, y)
	return m.drawWarnings(page, y)
}

// Columns of the latency table, by their right edges.
var columns = []struct {
	title string
	at    int
	wide  bool // only where there is room
}{{"n", 24, false}, {"p50", 33, false}, {"95 % interval", 49, true}, {"p95", 58, false}, {"p99", 67, false},
	{"max", 76, false}}

func (m *Model) drawLatencies(c *canvas.Canvas, y int) int {
	y = m.section(c, y, "Times in ms: from due to done; a start is from spawn to ready", 2)
	wide := m.w >= 100
	shift := 0
	if !wide {
		shift = 16
	}
	place := func(i int) int {
		if i >= 3 {
			return columns[i].at - shift
		}
		return columns[i].at
	}
	for i, col := range columns {
		if !col.wide || wide {
			c.Right(place(i), y, canvas.Dim, col.title)
		}
	}
	stripAt := place(5) + 3
	all, axis := draw.Distributions(m.page)
	cells := m.w - stripAt - 2
	if cells > leastStrip {
		drawScale(c, y, stripAt, cells, axis)
	}
	y++
	for fn, name := range m.page.Functions {
		c.PutUpTo(1, y, 17, canvas.Bold, name)
		began := y
		for _, row := range all {
			if row.Function != name {
				continue
			}
			style := canvas.Cold
			switch row.What {
			case "warm":
				style = canvas.Warm
			case "retried":
				style = canvas.Plain
			}
			if y == began && ansi.StringWidth(name) > 10 {
				y++
			}
			c.Put(12, y, style, row.What)
			between := ""
			if needs := row.Figures.Needs[0]; needs > 0 && row.Figures.P50 != nil {
				between = fmt.Sprintf("needs %d", needs)
			}
			if row.Figures.P50Lo != nil {
				between = report.MedianBetween(&row.Figures)
			}
			for i, v := range []string{figure.Brief(row.Figures.N), figure.Millis(row.Figures.P50), between,
				figure.Millis(row.Figures.P95), figure.Millis(row.Figures.P99),
				figure.Millis(row.Figures.Max)} {
				if columns[i].wide && !wide {
					continue
				}
				of := canvas.Plain
				if columns[i].wide {
					of = canvas.Dim
				}
				c.Right(place(i), y, of, v)
			}
			if cells > leastStrip {
				m.drawSpread(c, stripAt, y, cells, axis, &row, style)
			}
			y++
		}
		if y == began {
			c.Put(18, y, canvas.Dim, m.noAnswers(fn))
			y++
		}
	}
	text := "– : too few samples for the percentile (p50 needs 6, p95 59, p99 299), or for its interval (needs n)"
	if cells > leastStrip {
		text += "     ┃ the median   ⣿ where most lie   ⣀ a few"
	}
	c.Put(1, y, canvas.Dim, text)
	return y + 1
}

// noAnswers returns why a function has no figures.
func (m *Model) noAnswers(fn int) string {
	switch {
	case m.filter != (record.Filter{}):
		return "nothing passes the filter"
	case len(m.page.Summary.Functions[m.page.Functions[fn]].Rejections) > 0:
		return "every event was rejected"
	}
	return "no replies"
}

// beside writes the warnings that spoil figures next to them, each once.
func (m *Model) beside(c *canvas.Canvas, y int, figures ...[]string) int {
	all := measure.Beside{Latency: slices.Concat(figures...)}
	return canvas.Warnings(c, y, m.w-2, canvas.Dim, all.All())
}

// leastStrip is how many cells a distribution takes at least.
const leastStrip = 20

// drawScale draws the ticks of an axis in milliseconds, with labels where they have room.
func drawScale(c *canvas.Canvas, y, x, cells int, axis draw.Axis) {
	ticks := axis.Ticks()
	end := draw.ShortMillis(axis.Hi) + "╷" // the last label stands before its tick
	free := cells - ansi.StringWidth(end)
	c.Right(x+cells, y, canvas.Dim, end)
	at := func(i int) int { return int(ticks[i].At * float64(cells)) }
	for i := range len(ticks) - 1 {
		label := "╷" + draw.ShortMillis(ticks[i].Value)
		if at(i)+ansi.StringWidth(label) >= min(at(i+1), free) {
			label = "╷"
		}
		c.PutUpTo(x+at(i), y, x+free, canvas.Dim, label)
	}
}

// drawSpread draws where the durations of a population lie, two columns of dots in a cell: the more there
// are, the higher, by the square root, so that a few are seen too. A bar marks the median; dots at the
// bottom mark the powers of ten.
func (m *Model) drawSpread(c *canvas.Canvas, x, y, cells int, axis draw.Axis, row *draw.Distribution,
	style canvas.Style) {
	of, at := row.Of, make([]int, 2*cells)
	counts := make([]int, cells)
	low, high := make([]time.Duration, cells), make([]time.Duration, cells)
	for i, n := range of.Counts {
		if n == 0 {
			continue
		}
		column := min(int(axis.At(figure.Milliseconds(of.Low(i)))*float64(2*cells)), 2*cells-1)
		at[column] += n
		k := column / 2
		if counts[k] == 0 {
			low[k] = of.Low(i)
		}
		counts[k], high[k] = counts[k]+n, of.Low(i+1)
	}
	for _, t := range axis.Ticks() {
		if k := int(t.At * float64(cells)); k < cells {
			c.Set(x+k, y, canvas.Faint, '·')
		}
	}
	const levels = 4
	most := slices.Max(at)
	dots := canvas.NewDots(cells, 1)
	for column, n := range at {
		tall := int(math.Ceil(levels * math.Sqrt(float64(n)/float64(max(most, 1)))))
		for k := range tall {
			dots.Set(column, levels-1-k, style)
		}
	}
	dots.Draw(c, x, y)
	for i, n := range counts {
		if n == 0 {
			continue
		}
		pick := record.Filter{Function: row.Function, Class: row.What, Longer: low[i], Shorter: high[i]}
		if row.What == "start" { // the first invocations after those starts
			pick = record.Filter{Function: row.Function, StartFrom: low[i], StartTo: high[i]}
		}
		m.add(x+i, y, 1, pick, "%s %s, %s to %s: %d", row.Function, row.What, figure.Duration(low[i]),
			figure.Duration(high[i]), n)
	}
	if p50 := row.Figures.P50; p50 != nil {
		c.Set(x+min(int(axis.At(*p50)*float64(cells)), cells-1), y, style, '┃')
	}
}

func (m *Model) drawSources(c *canvas.Canvas, y int) int {
	y = m.section(c, y, "Outcomes of events", 2)
	titles := []string{"received", "done", "failed", "dead-lettered", "rejected", "other"}
	edges := []int{28, 39, 50, 66, 77, 88}
	if m.w < 100 {
		edges = []int{27, 34, 43, 58, 68, 76}
	}
	for i, t := range titles {
		c.Right(edges[i], y, canvas.Dim, t)
	}
	y++
	row := func(name string, style canvas.Style, n measure.Counts, pick record.Filter) {
		c.PutUpTo(1, y, 23, style, name)
		for k, v := range []int{n.Arrived, n.Done, n.Failed, n.DeadLettered, n.Rejected,
			n.Expired + n.Skipped + n.Unmatched + n.Abandoned} {
			style := canvas.Plain
			switch {
			case v == 0:
				style = canvas.Dim
			case k >= 2:
				style = canvas.Bad
			}
			c.Right(edges[k], y, style, fmt.Sprint(v))
			if outcome := [...]string{"", "done", "failed", "dead_lettered", "rejected", ""}[k]; v > 0 && k < 5 {
				at := pick
				at.Outcome = outcome
				m.add(edges[k]-len(fmt.Sprint(v)), y, len(fmt.Sprint(v)), at, "%s: %d %s", strings.TrimSpace(name), v,
					titles[k])
			}
		}
		y++
	}
	var quiet []string
	for _, name := range m.page.Sources {
		if m.page.Summary.Sources[name] == (measure.Counts{}) {
			quiet = append(quiet, name)
			continue
		}
		row(name, canvas.Plain, m.page.Summary.Sources[name], record.Filter{Source: name})
		for i := range m.page.Summary.Routes {
			if of := &m.page.Summary.Routes[i]; of.Source == name && of.Deliveries > 0 {
				n := of.Counts
				n.Arrived = n.Deliveries
				row("  "+of.Route, canvas.Dim, n, record.Filter{Source: name, Route: of.Route})
			}
		}
	}
	if len(quiet) > 0 {
		y = canvas.Flow(c, 1, y, m.w-2, canvas.Dim, "No events at "+text.List(quiet)+".")
	}
	return m.drawRoutes(c, y)
}

// drawRoutes draws how long each route takes, where a function has several.
func (m *Model) drawRoutes(c *canvas.Canvas, y int) int {
	for _, name := range m.page.Functions {
		routes := m.page.Summary.Functions[name].Routes
		if len(routes) < 2 {
			continue
		}
		c.Right(56, y, canvas.Dim, "warm n")
		c.Right(66, y, canvas.Dim, "p50, ms")
		c.Right(76, y, canvas.Dim, "p95, ms")
		y++
		for _, route := range slices.Sorted(maps.Keys(routes)) {
			w := routes[route].Warm
			c.PutUpTo(1, y, 50, canvas.Plain, name+" "+route)
			c.Right(56, y, canvas.Warm, figure.Brief(w.N))
			c.Right(66, y, canvas.Warm, figure.Millis(w.P50))
			c.Right(76, y, canvas.Warm, figure.Millis(w.P95))
			m.add(1, y, min(len(name)+len(route)+1, 48), record.Filter{Function: name, Route: route}, "%s %s", name,
				route)
			y++
		}
	}
	return y
}

// drawStatuses draws how the functions answered, by method and route.
func (m *Model) drawStatuses(c *canvas.Canvas, y int) int {
	said := false
	row := func(name string, style canvas.Style, statuses map[string]int, pick record.Filter) {
		if !said {
			y = m.section(c, y, "Statuses of invocations", 1)
			said = true
		}
		c.PutUpTo(1, y, 41, style, name)
		x := 42
		for _, status := range slices.Sorted(maps.Keys(statuses)) {
			text := fmt.Sprintf("%s × %d", status, statuses[status])
			if x+ansi.StringWidth(text) >= m.w-1 {
				y, x = y+1, 42
			}
			style := canvas.Plain
			if status >= "400" {
				style = canvas.Bad
			}
			at := pick
			at.Status = status
			m.add(x, y, ansi.StringWidth(text), at, "%s: status %s × %d", strings.TrimSpace(name), status,
				statuses[status])
			x = c.Put(x, y, style, text) + 3
		}
		y++
	}
	for _, name := range m.page.Functions {
		f := m.page.Summary.Functions[name]
		if len(f.Statuses) == 0 {
			continue
		}
		row(name, canvas.Plain, f.Statuses, record.Filter{Function: name})
		for _, route := range slices.Sorted(maps.Keys(f.Routes)) {
			if statuses := f.Routes[route].Statuses; len(statuses) > 0 {
				row("  "+route, canvas.Dim, statuses, record.Filter{Function: name, Route: route})
			}
		}
	}
	return y
}

// drawFailures names what failed, by cause, the worst of each.
func (m *Model) drawFailures(c *canvas.Canvas, y int) int {
	if len(m.page.Failures) == 0 {
		return y
	}
	y = m.section(c, y, "Failures by cause; all of them: nightdrill runs show "+m.page.Summary.Run+" --failed", 1)
	for i := range m.page.Failures {
		f := &m.page.Failures[i]
		y = canvas.Flow(c, 1, y, m.w-2, canvas.Bad, text.Harmless(report.CauseText(f)))
		for k := range f.Worst {
			y = canvas.Flow(c, 3, y, m.w-2, canvas.Plain, text.Harmless(report.FailureText(&f.Worst[k])))
		}
	}
	return y
}

// drawUse draws what happened to the instances, and what they used and cost.
func (m *Model) drawUse(c *canvas.Canvas, y int) int {
	y = m.section(c, y, "Instances: use and cost", 1)
	for _, name := range m.page.Functions {
		f := m.page.Summary.Functions[name]
		for i, line := range report.InstanceLines(f) {
			if i == 0 {
				y = canvas.Flow(c, 1, y, m.w-2, canvas.Plain, name+": "+line)
				continue
			}
			y = canvas.Flow(c, 3, y, m.w-2, canvas.Dim, line)
		}
	}
	return m.beside(c, y, m.page.Summary.Beside.Memory)
}

// drawWays sets the ways to start beside each other.
func (m *Model) drawWays(c *canvas.Canvas, y int) int {
	ways := m.page.Summary.Ways
	if len(ways) == 0 {
		return y
	}
	y = m.section(c, y, "Ways to start: medians, ms", 2)
	longest := 0
	for i := range ways {
		longest = max(longest, len(ways[i].Function))
	}
	name := min(longest, max(m.w/4, 12))
	edges := []int{name + 5, name + 15, name + 24, name + 40, name + 54, name + 63}
	for i, title := range []string{"n", "prepared", "start", "95 % interval", "first reply", "both"} {
		c.Right(edges[i]+2, y, canvas.Dim, title)
	}
	y++
	for i := range ways {
		w := &ways[i]
		c.PutUpTo(1, y, name+2, canvas.Bold, w.Function)
		for k, v := range []string{figure.Brief(w.Whole.N), figure.Millis(w.Prepare),
			figure.Millis(w.Start.P50), report.MedianBetween(&w.Start), figure.Millis(w.Answer.P50),
			figure.Millis(w.Whole.P50)} {
			style := canvas.Cold
			if k == 0 || k == 3 {
				style = canvas.Dim
			}
			c.Right(edges[k]+2, y, style, v)
		}
		if at := edges[5] + 5; m.w-at > 40 {
			y = canvas.Flow(c, at, y, m.w-1, canvas.Dim, w.Words)
			continue
		}
		y = canvas.Flow(c, 3, y+1, m.w-2, canvas.Dim, w.Words)
	}
	return y
}

// drawChanges draws what was changed while the drill ran.
func (m *Model) drawChanges(c *canvas.Canvas, y int) int {
	if len(m.page.Summary.Changes) == 0 {
		return y
	}
	y = m.section(c, y, "Changes during the run", 1)
	for _, x := range m.page.Summary.Changes {
		y = canvas.Flow(c, 1, y, m.w-2, canvas.Plain, report.ChangeText(x, m.page.Functions))
	}
	return y
}

// drawBudgets draws those budgets that were missed or have no verdict, and the others in one line
// unless they are open.
func (m *Model) drawBudgets(c *canvas.Canvas, y int) int {
	all := m.page.Summary.Budgets
	if len(all) == 0 {
		return y
	}
	y = m.section(c, y, "Budgets", 1)
	met := 0
	for i := range all {
		if v := &all[i]; !v.Held {
			style, mark := canvas.Bad, "✗ missed      "
			if v.Few {
				style, mark = canvas.Warm, "? no verdict  "
			}
			x := c.Put(1, y, style, mark)
			y = canvas.Flow(c, x, y, m.w-2, canvas.Plain, v.Text+" ("+report.BudgetSays(v)+")")
			continue
		}
		met++
	}
	if met == 0 {
		return y
	}
	if !m.budgets {
		x := c.Put(1, y, canvas.Good, fmt.Sprintf("✓ %d met", met))
		c.PutUpTo(x+2, y, m.w-1, canvas.Dim, "b shows them")
		return y + 1
	}
	for i := range all {
		if v := &all[i]; v.Held {
			x := c.Put(1, y, canvas.Good, "✓ met         ")
			y = canvas.Flow(c, x, y, m.w-2, canvas.Plain, v.Text+" ("+report.BudgetSays(v)+")")
		}
	}
	return y
}

// drawWarnings draws what else is to be kept in mind.
func (m *Model) drawWarnings(c *canvas.Canvas, y int) int {
	s := m.page.Summary
	y = m.section(c, y, "Caveats", 1)
	y = canvas.Warnings(c, y, m.w-2, canvas.Plain, slices.DeleteFunc(slices.Clone(s.Warnings), s.Beside.Any))
	d := &s.Driver
	text := report.DriverText(d)
	if d.Busy != nil {
		text += fmt.Sprintf("; the machine was %.0f %% busy", *d.Busy*100)
	}
	if d.EchoBefore.P50 != nil {
		text += fmt.Sprintf("; a bare round trip took %s ms before, %s during the run",
			figure.Millis(d.EchoBefore.P50), figure.Millis(d.EchoDuring.P50))
	}
	if d.TimerP99 != nil {
		text += fmt.Sprintf("; timers fired up to %s ms late", figure.Millis(d.TimerP99))
	}
	y = canvas.Flow(c, 1, y, m.w-2, canvas.Dim, text+".")
	if s.Machine != "" {
		if text = "run " + s.Run + " on " + s.Machine; s.Commit != "" {
			text += ", code " + s.Commit
		}
		y = canvas.Flow(c, 1, y, m.w-2, canvas.Dim, text)
	}
	return y
}
