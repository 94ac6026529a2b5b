package drillview

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
)

// Columns beside the time axis.
const (
	left  = 16
	right = 13
)

var heights = draw.Heights

// height returns the block for a share from 0 to 1; anything above 0 is seen.
func height(share float64) rune {
	if share <= 0 {
		return ' '
	}
	return heights[min(max(int(math.Ceil(share*8)), 1), 8)]
}

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	c := canvas.New(m.w, m.h, theme)
	if m.choosing() {
		m.drawChoice(c)
		return c
	}
	if m.chart == nil {
		c.Put(2, 1, canvas.Dim, "Reading the run …")
		return c
	}
	m.short = map[int][]string{}
	w := m.window()
	dock := m.dockRows()
	lower := m.lowerRows(w)
	room := m.share(len(lower), dock)
	y := m.drawArrivals(c, 0, w, room.arrivals)
	m.drawLanes(c, y, room.lanes+1, w)
	y += room.lanes + 1
	if dock > 0 {
		m.drawDock(c, m.drawAxis(c, y, w), dock)
		return c
	}
	if m.lower < 2 && len(lower) > 0 {
		y = m.drawLower(c, y, w, lower, room.lower)
	}
	y = m.drawAxis(c, y, w)
	y = m.drawChanges(c, y, w)
	if m.lower < 1 {
		m.drawFigures(c, y, room.figures)
	}
	return c
}

func (m *Model) drawChoice(c *canvas.Canvas) {
	if len(m.p.Drills) == 0 {
		c.Put(2, 1, canvas.Plain, "The project has no drill yet.")
		c.Put(2, 3, canvas.Dim, "A drill defines which payloads reach which source, and when. Add one under drills: "+
			"in nightdrill.yaml, such as")
		for i, line := range []string{"drills:", "  evening:", "    feeds:",
			"      - {source: fares, payloads: fare-requests, arrive: [{steady: 20/s, for: 10s}]}"} {
			c.Put(4, 5+i, canvas.Plain, line)
		}
		c.Put(2, 10, canvas.Dim, "and save the file.")
		return
	}
	c.Put(2, 1, canvas.Plain, "Which drill?")
	for i := range m.p.Drills {
		d := &m.p.Drills[i]
		style, mark := canvas.Plain, "  "
		if i == m.choice {
			style, mark = canvas.Warm, "▸ "
		}
		x := c.Put(2, 3+i, style, mark+d.Name)
		c.Put(max(x+3, 26), 3+i, canvas.Dim, describe(m.p, d))
	}
}

// sourceNames returns the names of the sources, with at most so many characters each.
func (m *Model) sourceNames(width int) []string {
	var names []string
	for i := range m.chart.Run().Sources {
		names = append(names, m.chart.Run().Sources[i].Name)
	}
	return text.Shorten(names, width)
}

// functionNames returns the names of the functions, with at most so many characters each.
func (m *Model) functionNames(width int) []string {
	if short := m.short[width]; short != nil {
		return short
	}
	var names []string
	for i := range m.chart.Run().Functions {
		names = append(names, m.chart.Run().Functions[i].Name)
	}
	m.short[width] = text.Shorten(names, width)
	return m.short[width]
}

// arriving returns the sources with a row of arrivals: those with events, and in a high terminal those that
// could have some.
func (m *Model) arriving() (sources []int) {
	r := m.chart.Run()
	for s := range r.Sources {
		if _, n := m.chart.Counts(draw.Arrived, s, draw.Window{}); n > 0 || m.h >= 40 && len(r.Sources[s].To) > 0 {
			sources = append(sources, s)
		}
	}
	return sources
}

// drawArrivals draws a row for each source, all to the same scale; where there is no room for all, for
// those with most events.
func (m *Model) drawArrivals(c *canvas.Canvas, y int, w draw.Window, rows int) int {
	shown := m.arriving()
	totals, title := map[int]int{}, "Arrivals"
	for _, s := range shown {
		_, totals[s] = m.chart.Counts(draw.Arrived, s, draw.Window{})
	}
	if hidden := len(shown) - rows; hidden > 0 {
		shown = mostOf(shown, rows, func(s int) int { return totals[s] })
		title += fmt.Sprintf(" (+%d)", hidden)
	}
	c.Rule(y, title)
	m.drawMarks(c, y, w, ansi.StringWidth(title)+5)
	y++
	most, names := 1, m.sourceNames(left-2)
	counts := make([][]int, len(shown))
	for i, s := range shown {
		counts[i], _ = m.chart.Counts(draw.Arrived, s, w)
		most = max(most, slices.Max(counts[i]))
	}
	for i, s := range shown {
		c.PutUpTo(1, y, left-1, canvas.Plain, names[s])
		for k, n := range counts[i] {
			c.Set(left+k, y, canvas.Plain, height(float64(n)/float64(most)))
		}
		c.Right(m.w-1, y, canvas.Dim, fmt.Sprintf("%d events", totals[s]))
		y++
	}
	return y
}

// mostOf returns the n of all with the largest weights, in the order of all.
func mostOf[T comparable](all []T, n int, weight func(T) int) []T {
	kept := slices.Clone(all)
	slices.SortStableFunc(kept, func(a, b T) int { return cmp.Compare(weight(b), weight(a)) })
	kept = kept[:max(min(n, len(kept)), 0)]
	return slices.DeleteFunc(slices.Clone(all), func(x T) bool { return !slices.Contains(kept, x) })
}

// drawMarks writes the names of the drill's moments at their times into a rule, right of its title; a
// name that reaches into the next is cut.
func (m *Model) drawMarks(c *canvas.Canvas, y int, w draw.Window, title int) {
	r := m.chart.Run()
	for i, x := range r.Marks {
		at := left + w.At(r.Begins.Add(x.At))
		end := m.w
		if i+1 < len(r.Marks) {
			end = min(end, left+w.At(r.Begins.Add(r.Marks[i+1].At)))
		}
		if at < max(title, left) || at >= left+w.Cells || end <= at {
			continue
		}
		c.Set(at, y, canvas.Bold, '╷')
		if end-at > 4 {
			c.PutUpTo(at+1, y, end, canvas.Bold, text.Harmless(x.Text))
		}
	}
}

// room is how many rows the parts of the view have, without their titles.
type room struct{ arrivals, lanes, lower, figures int }

// share divides the rows among the parts by need: each has a few, the lanes most, and what one does not need
// the others have. lower is how many rows could stand below the lanes, dock how many are taken by what is
// docked there instead.
func (m *Model) share(lower, dock int) (r room) {
	lanes := max(len(m.chart.Lanes()), 1)
	rows, figures := m.h-3, 0 // the titles of arrivals and lanes, and the axis
	if dock > 0 {
		rows, lower = rows-dock, 0
	} else {
		if m.changesShown() {
			rows--
		}
		if m.lower >= 2 {
			lower = 0
		}
		if lower > 0 {
			rows--
		}
		if m.lower < 1 {
			rows, figures = rows-2, m.figureRows() // a title, and the names of the columns
		}
	}
	parts := []struct{ got, need, least, weight int }{{0, lanes, 4, 2}, {0, lower, 2, 1}, {0, len(m.arriving()), 2, 1},
		{0, figures, 1, 1}}
	for least := true; rows > 0; least = false {
		before := rows
		for i := range parts {
			p := &parts[i]
			n := p.weight
			if least {
				n = p.least
			}
			n = max(min(n, p.need-p.got, rows), 0)
			p.got, rows = p.got+n, rows-n
		}
		if rows == before {
			break
		}
	}
	return room{lanes: parts[0].got + rows, lower: parts[1].got, arrivals: parts[2].got, figures: parts[3].got}
}

// figureRows returns how many rows the running figures could have.
func (m *Model) figureRows() int {
	n := len(m.chart.Run().Functions)
	if m.togetherShown() {
		n++
	}
	return n
}

// lowerRow is a row below the lanes: what waited for a function, what a source lost, or the bad statuses of
// a function.
type lowerRow struct {
	kind  lowerKind
	of    int // the source or the function
	cells []int
	peak  int // of a cell
	words string
}

type lowerKind uint8

const (
	waits lowerKind = iota
	loses
	failing
)

// lowerRows returns the rows below the lanes, in their order.
func (m *Model) lowerRows(w draw.Window) (rows []lowerRow) {
	r := m.chart.Run()
	add := func(kind lowerKind, of int, cells []int, words string) {
		x := lowerRow{kind, of, cells, slices.Max(cells), words}
		if kind == waits {
			x.words = fmt.Sprintf("peak %d", x.peak)
		}
		rows = append(rows, x)
	}
	for fn := range r.Functions {
		if slices.ContainsFunc(r.Sources, func(s record.Source) bool { return len(s.To) > 0 && s.To[0] == fn }) {
			add(waits, fn, m.chart.Waiting(fn, w), "")
		}
	}
	for s := range r.Sources {
		rejected, n := m.chart.Counts(draw.Rejected, s, w)
		lost, k := m.chart.Counts(draw.Lost, s, w)
		for i := range rejected {
			rejected[i] += lost[i]
		}
		switch {
		case n > 0 && k > 0:
			add(loses, s, rejected, fmt.Sprintf("%d+%d failed", n, k))
		case n > 0:
			add(loses, s, rejected, fmt.Sprintf("%d rejected", n))
		case k > 0:
			add(loses, s, rejected, fmt.Sprintf("%d failed", k))
		}
	}
	for fn := range r.Functions {
		cells, of4xx, of5xx := m.chart.BadStatuses(fn, w)
		var parts []string
		if of4xx > 0 {
			parts = append(parts, fmt.Sprintf("%d × 4xx", of4xx))
		}
		if of5xx > 0 {
			parts = append(parts, fmt.Sprintf("%d × 5xx", of5xx))
		}
		if parts != nil {
			add(failing, fn, cells, strings.Join(parts, " "))
		}
	}
	return rows
}

// drawLower draws what waited and what was rejected, on the time axis of the lanes; where there is no room for
// all, what was lost comes first, then where most waited.
func (m *Model) drawLower(c *canvas.Canvas, y int, w draw.Window, all []lowerRow, rows int) int {
	of := make([]int, len(all))
	for i := range of {
		of[i] = i
	}
	shown := mostOf(of, rows, func(i int) int {
		return all[i].peak + map[lowerKind]int{loses: 2 << 20, failing: 1 << 20}[all[i].kind]
	})
	title := "Waiting and rejected"
	if slices.ContainsFunc(all, func(x lowerRow) bool { return x.kind == failing }) {
		title = "Waiting, rejected, and statuses from 400 on"
	}
	if why := m.refusals(); why != "" && m.w >= 100 {
		title += ": rejected " + why
	}
	if m.w >= 130 {
		title += "; each row to its own peak"
	}
	if hidden := len(all) - len(shown); hidden > 0 {
		title += fmt.Sprintf(" (+%s)", text.Plural(hidden, "row"))
	}
	c.Rule(y, title)
	y++
	names := [...][]string{waits: m.functionNames(left - 8), loses: m.sourceNames(left - 4),
		failing: m.functionNames(left - 7)}
	for _, i := range shown {
		x := &all[i]
		name := names[x.kind][x.of]
		name = [...]string{waits: name + " queue", loses: "✗ " + name, failing: "≥400 " + name}[x.kind]
		style, words := canvas.Bad, canvas.Bad
		if x.kind == waits {
			style, words = canvas.Plain, canvas.Dim
		}
		c.PutUpTo(1, y, left-1, style, name)
		for k, n := range x.cells {
			if from, _ := w.Cell(k); from <= m.chart.Run().Length {
				c.Set(left+k, y, style, height(float64(n)/float64(max(x.peak, 1))))
			}
		}
		c.Right(m.w-1, y, words, x.words)
		y++
	}
	return y
}

func (m *Model) drawLanes(c *canvas.Canvas, y, rows int, w draw.Window) {
	lanes := m.chart.Lanes()
	title := "Instances"
	if v := m.under(); v != nil {
		title = "Instances  " + m.brief(v)
	}
	c.Rule(y, title)
	if rows < 2 {
		return
	}
	rows--
	y++
	now := m.chart.Run().Length
	if len(lanes) == 0 {
		c.Put(left, y, canvas.Dim, "no instances yet")
	}
	first, shown := 0, lanes
	var folded []laneRow
	hidden := ""
	switch {
	case len(lanes) <= rows:
		m.top = 0
	case m.lane >= 0:
		m.top = max(min(m.top, m.lane, len(lanes)-rows), m.lane-rows+1, 0)
		first, shown = m.top, lanes[m.top:m.top+rows]
		hidden = fmt.Sprintf(" lanes %d to %d of %d ", m.top+1, m.top+rows, len(lanes))
		if m.w < 100 {
			hidden = fmt.Sprintf(" %d to %d of %d ", m.top+1, m.top+rows, len(lanes))
		}
	default:
		folded = fold(lanes, rows, func(fn int32) string { return m.functionNames(left - 7)[fn] })
		stopped := 0
		for _, r := range folded {
			stopped += len(r.band)
		}
		shown, hidden = nil, fmt.Sprintf(" %s, %d folded; ↑↓ for all ", text.Plural(len(lanes), "lane"), stopped)
	}
	for i, r := range folded[:min(len(folded), rows)] {
		if r.lane != nil {
			m.drawLane(c, y+i, r.lane, w, now, false)
		} else {
			m.drawBand(c, y+i, r, w, now)
		}
	}
	for i, l := range shown {
		m.drawLane(c, y+i, l, w, now, m.lane >= 0 && first+i == m.lane)
	}
	const counts = " invocations "
	c.Right(m.w-len(counts)-1, y-1, canvas.Dim, hidden)
	c.Right(m.w-1, y-1, canvas.Dim, counts)
	for _, x := range m.chart.Run().Changes {
		if at := w.At(x.At); at >= 0 && at < w.Cells && left+at > ansi.StringWidth(title)+5 &&
			left+at < m.w-3-len(counts)-ansi.StringWidth(hidden) {
			c.Set(left+at, y-1, canvas.Bold, '▾')
		}
	}
}

// latest leaves out the lanes that ended first, until as many are left as there
// is room for.
func latest(lanes []*draw.Lane, rows int) []*draw.Lane {
	var ended []*draw.Lane
	for _, l := range lanes {
		if l.Instance.Stopped > 0 {
			ended = append(ended, l)
		}
	}
	slices.SortStableFunc(ended, func(a, b *draw.Lane) int {
		return cmp.Compare(a.Instance.Stopped,
			b.Instance.Stopped)
	})
	out := map[*draw.Lane]bool{}
	for _, l := range ended[:min(len(ended), len(lanes)-rows)] {
		out[l] = true
	}
	var left []*draw.Lane
	for _, l := range lanes {
		if !out[l] {
			left = append(left, l)
		}
	}
	return left[:rows]
}

func (m *Model) drawLane(c *canvas.Canvas, y int, l *draw.Lane, w draw.Window, now clock.Time, chosen bool) {
	in := &l.Instance
	number := fmt.Sprintf("-%d", in.Number)
	name := m.functionNames(left - 2 - len(number))[in.Function] + number
	style := canvas.Dim
	if chosen {
		style = canvas.Chosen
	}
	c.PutUpTo(1, y, left-1, style, name)
	end := w.At(in.Stopped)
	for i, cell := range m.chart.Row(l, w, now) {
		glyph, style := mark(cell)
		c.Set(left+i, y, style, glyph)
		if i == end && (cell.Cold || cell.First || cell.Failed) {
			end++ // its stop stands after the mark, not on it
		}
	}
	if in.Stopped > 0 && end >= 0 && end < w.Cells {
		word := in.Reason.String()
		style := canvas.Dim
		if in.Reason == engine.Crashed || in.Reason == engine.NeverReady || in.Reason == engine.TimedOut ||
			in.Reason == engine.OutOfMemory {
			style = canvas.Bad
			if in.Reason == engine.Crashed && in.Ready == 0 {
				word = "does not start"
			}
		}
		c.Set(left+end, y, style, '┤')
		if left+end+2+len(word) < m.w-right+1 {
			c.Put(left+end+1, y, style, " "+word)
		}
	}
	if v := m.under(); chosen && v != nil {
		if at := w.At(v.Assigned); at >= 0 && at < w.Cells {
			last := min(max(w.At(v.Done), at), w.Cells-1)
			for i := at; i <= last; i++ {
				c.Restyle(left+i, y, 1, classStyle(v).Under())
			}
		}
	}
	label := fmt.Sprint(len(l.Invocations))
	if in.Version > 0 {
		label = fmt.Sprintf("v%d  %s", in.Version+1, label)
	}
	c.Right(m.w-1, y, canvas.Dim, label)
}

// mark returns the glyph of a lane's cell: each state has its own, so that the
// colour only repeats it.
func mark(cell draw.Cell) (rune, canvas.Style) {
	switch {
	case cell.Failed:
		return '✗', canvas.Bad
	case cell.Cold:
		return '◆', canvas.Cold
	case cell.First:
		return '◇', canvas.Cold
	case cell.State == draw.Busy:
		return height(max(cell.Share, 0.01)), canvas.Warm
	case cell.State == draw.Idle:
		return '·', canvas.Faint
	case cell.State == draw.Starting:
		return '╌', canvas.Cold
	}
	return ' ', canvas.Plain
}

func classStyle(v *record.Invocation) canvas.Style {
	switch {
	case draw.Bad(v):
		return canvas.Bad
	case v.Class == engine.Warm:
		return canvas.Warm
	}
	return canvas.Cold
}

// drawAxis draws the times, at round distances.
func (m *Model) drawAxis(c *canvas.Canvas, y int, w draw.Window) int {
	step := roundStep(time.Duration(w.To-w.From) / time.Duration(max(w.Cells/14, 1)))
	for t := w.From / clock.Time(step) * clock.Time(step); t <= w.To; t += clock.Time(step) {
		if at := w.At(t); at >= 0 && at < w.Cells {
			c.Set(left+at, y, canvas.Dim, '╵')
			c.PutUpTo(left+at+1, y, left+w.Cells+right, canvas.Dim, axisText(t, step))
		}
	}
	return y + 1
}

// roundStep returns the 1, 2 or 5 times a power of ten at or above a duration.
func roundStep(d time.Duration) time.Duration {
	for decade := 100 * time.Microsecond; ; decade *= 10 {
		for _, factor := range []time.Duration{1, 2, 5} {
			if step := decade * factor; step >= d {
				return step
			}
		}
	}
}

func axisText(t clock.Time, step time.Duration) string {
	switch {
	case step >= time.Second:
		return fmt.Sprintf("%.0f s", t.Seconds())
	case step >= time.Millisecond:
		return fmt.Sprintf("%.3f s", t.Seconds())
	}
	return fmt.Sprintf("%.4f s", t.Seconds())
}

// drawFigures draws the running figures of each function.
func (m *Model) drawFigures(c *canvas.Canvas, y, rows int) {
	r := m.chart.Run()
	title := "Latency so far, ms"
	if !m.live {
		title = "Latency, ms"
	}
	if m.togetherShown() {
		rows--
	}
	if hidden := len(r.Functions) - rows; hidden > 0 {
		title += fmt.Sprintf(" (+%s)", text.Plural(hidden, "function"))
	}
	c.Rule(y, title)
	y++
	type column struct {
		at    int
		title string
		style canvas.Style
	}
	together, bar := m.togetherShown(), 0
	if m.w >= 118 {
		bar = 18
	}
	columns := []column{{23, "in flight", canvas.Dim}, {32, "waiting", canvas.Dim}, {40, "cold n", canvas.Cold},
		{46, "p50", canvas.Cold},
		{54, "first n", canvas.Cold}, {62, "warm n", canvas.Warm}, {68, "p50", canvas.Warm}, {74, "p95", canvas.Warm},
		{80, "p99", canvas.Warm}, {90, "MiB each", canvas.Dim}, {98, "cpus", canvas.Dim}}
	for i := range columns {
		if columns[i].at += bar; columns[i].at <= m.w {
			c.Right(columns[i].at, y, columns[i].style, columns[i].title)
		}
	}
	if bar > 0 {
		c.Put(left+1, y, canvas.Dim, "in use")
	}
	peaks, peak := m.peaks()
	if together {
		y++
		used, starting, waiting := 0, 0, 0
		for _, l := range m.looks {
			used, starting, waiting = used+l.InFlight, starting+l.Claimed, waiting+l.Waiting
		}
		c.Put(1, y, canvas.Plain, "project total")
		all := m.limitOfAll()
		if bar > 0 {
			drawUse(c, left+1, y, bar-3, used, starting, all, 0, peak)
		}
		c.Right(columns[0].at, y, canvas.Plain, fmt.Sprintf("%d of %d", used+starting, all))
		c.Right(columns[1].at, y, canvas.Plain, fmt.Sprint(waiting))
	}
	names := m.functionNames(left - 2)
	all := make([]int, len(r.Functions))
	for fn := range all {
		all[fn] = fn
	}
	for _, fn := range mostOf(all, rows, func(fn int) int {
		f := &m.tally.Functions[fn]
		return f.N(engine.Cold) + f.N(engine.First) + f.N(engine.Warm)
	}) {
		y++
		f := &m.tally.Functions[fn]
		look := engine.Stats{}
		if fn < len(m.looks) {
			look = m.looks[fn]
		}
		c.PutUpTo(1, y, left, canvas.Plain, names[fn])
		limits := m.limitsOf(fn)
		if bar > 0 {
			drawUse(c, left+1, y, bar-3, look.InFlight, look.Claimed, limits.Max, limits.Guaranteed, peaks[fn])
		}
		memory, cpus, bad := m.usage(int32(fn))
		values := []string{fmt.Sprintf("%d of %d", look.InFlight+look.Claimed, limits.Max), fmt.Sprint(look.Waiting),
			fmt.Sprint(f.N(engine.Cold)), figure.Millis(f.Percentile(engine.Cold, 0.5)),
			fmt.Sprint(f.N(engine.First)),
			fmt.Sprint(f.N(engine.Warm)), figure.Millis(f.Percentile(engine.Warm, 0.5)),
			figure.Millis(f.Percentile(engine.Warm, 0.95)), figure.Millis(f.Percentile(engine.Warm, 0.99)),
			memory, cpus}
		for i, v := range values {
			style := canvas.Plain
			if i == 9 && bad {
				style = canvas.Bad
			}
			if columns[i].at <= m.w {
				c.Right(columns[i].at, y, style, v)
			}
		}
		if limits.TurnAway && m.w >= columns[10].at+16 {
			c.PutUpTo(columns[10].at+2, y, m.w, canvas.Bad, "✗ rejects")
		}
	}
}

// brief describes the invocation under the cursor in a line.
func (m *Model) brief(v *record.Invocation) string {
	status := v.Result.String()
	if v.Status > 0 {
		status = fmt.Sprint(v.Status)
	}
	return fmt.Sprintf("▸ at %.3f s  %s  %s  %s", v.Assigned.Seconds(), v.Class, status,
		figure.Duration(v.Done.Sub(v.Assigned)))
}

// byteLines returns the bytes of the event and of the reply, as far as they were
// kept.
func (m *Model) byteLines(v *record.Invocation) (lines []line) {
	r := m.chart.Run()
	put := func(title string, number int32, none string) {
		lines = append(lines, line{}, line{value: title, style: canvas.Bold, whole: true})
		if number == 0 {
			lines = append(lines, line{value: none, style: canvas.Dim, whole: true})
			return
		}
		shown, err := m.bytes(r, number)
		if err != nil {
			lines = append(lines, line{value: err.Error(), style: canvas.Bad, whole: true})
			return
		}
		for row := range strings.Lines(string(shown[:min(len(shown), 16<<10)])) {
			for part := range strings.Lines(ansi.Wrap(text.Harmless(strings.TrimRight(row, "\r\n")), m.column(), "")) {
				lines = append(lines, line{value: strings.TrimRight(part, "\n"), whole: true})
			}
		}
	}
	if attempts := m.chart.Events(v); len(attempts) > 0 {
		put("the event, as it was recorded", r.Payloads[r.Arrivals[attempts[0].Event].Payload].Blob,
			"not kept: the run is old, or its quota was used up")
	}
	put("the reply", v.Reply, "none, or not kept")
	if v.Timing > 0 {
		put("its own timing (Server-Timing)", v.Timing, "")
	}
	return lines
}

// bytes returns the bytes of a number: of a run that was read back, from the store.
func (m *Model) bytes(r *record.Run, number int32) ([]byte, error) {
	if int(number) <= len(r.Blobs) {
		return r.Blobs[number-1], nil
	}
	if m.cached.run == r.ID && m.cached.of[number] != nil {
		return m.cached.of[number], nil
	}
	text, err := m.kept.Blob(r.ID, number)
	if err == nil {
		if m.cached.run != r.ID || len(m.cached.of) > 100 {
			m.cached.run, m.cached.of = r.ID, map[int32][]byte{}
		}
		m.cached.of[number] = text
	}
	return text, err
}

type line struct {
	name, value string
	style       canvas.Style
	whole       bool // from edge to edge, not in the column of values
}

func (m *Model) invocationLines(v *record.Invocation) []line {
	r := m.chart.Run()
	var lines []line
	add := func(style canvas.Style, name, format string, args ...any) {
		lines = append(lines, line{name: name, value: fmt.Sprintf(format, args...), style: style})
	}
	attempts := m.chart.Events(v)
	for i, a := range attempts {
		if i == 6 {
			add(canvas.Dim, "", "and %d more in this batch", len(attempts)-i)
			break
		}
		arrival := &r.Arrivals[a.Event]
		p := &r.Payloads[arrival.Payload]
		title := ""
		if i == 0 {
			title = "event"
		}
		add(canvas.Plain, title, "%s", text.Harmless(p.Label))
		add(canvas.Dim, "", "%s#%d, attempt %d: %s", p.Set, p.N, a.N, a.Result)
	}
	status := "no reply: " + v.Result.String()
	if v.Status > 0 {
		status = fmt.Sprint(v.Status)
		if v.Result != engine.OK {
			status += ", " + v.Result.String()
		}
	}
	add(classStyle(v), "reply status", "%s", status)
	add(classStyle(v), "class", "%s", v.Class)
	if len(attempts) == 0 {
		return lines
	}
	first := &r.Arrivals[attempts[0].Event]
	add(canvas.Plain, "due", "%.4f s", first.Due.Seconds())
	step := func(name string, at, from clock.Time, what string) {
		if at > 0 {
			add(canvas.Plain, name, "+ %-12s %s", figure.Duration(at.Sub(from)), what)
		}
	}
	step("taken", first.Arrived, first.Due, "driver delay")
	step("dispatched", v.Assigned, first.Arrived, "waited for an instance")
	step("sent", v.Sent, v.Assigned, "")
	step("first byte", v.Received, v.Sent, "the function at work")
	for _, x := range m.insideOf(v) {
		style, name := canvas.Field, strings.Repeat(" ", min(x.Depth, 4))+x.Name
		if x.Call {
			style, name = canvas.Warm, strings.Repeat(" ", min(x.Depth, 4))+"→ "+x.Name
		}
		if x.Bad {
			style = canvas.Bad
		}
		add(style, text.Harmless(name), "%s %s  %s", ladderBar(x.From.Sub(v.Began()), x.To.Sub(v.Began()),
			v.Done.Sub(v.Began())), figure.Duration(x.To.Sub(x.From)), text.Harmless(x.Label+" "+x.Note))
	}
	step("done", v.Done, max(v.Received, v.Assigned), "the rest of the reply")
	add(canvas.Bold, "latency", "%s from due to done", figure.Duration(v.Done.Sub(first.Due)))
	return lines
}

// mostInside bounds what is shown within an invocation.
const mostInside = 12

// insideOf returns the calls to upstreams and the spans of an invocation. They are looked up once.
func (m *Model) insideOf(v *record.Invocation) []explain.Inside {
	r := m.chart.Run()
	if key := [2]uint64{v.ID, uint64(len(r.Calls) + len(r.Spans))}; m.inside.key != key || m.inside.run != r.ID {
		m.inside.key, m.inside.run, m.inside.of = key, r.ID, explain.InsideRun(r, v.ID)
	}
	return m.inside.of[:min(len(m.inside.of), mostInside)]
}

// ladderBar draws from when to when something was, in an invocation that took so long.
func ladderBar(from, to, whole time.Duration) string {
	const cells = 20
	at := func(d time.Duration) int { return min(max(int(d*cells/max(whole, 1)), 0), cells) }
	a, b := min(at(from), cells-1), at(to)
	b = max(b, a+1)
	return strings.Repeat("·", a) + strings.Repeat("━", b-a) + strings.Repeat("·", cells-b)
}

func (m *Model) instanceLines(in *record.Instance) []line {
	lines := []line{{}}
	add := func(style canvas.Style, name, format string, args ...any) {
		lines = append(lines, line{name: name, value: fmt.Sprintf(format, args...), style: style})
	}
	of := &m.chart.Run().Functions[in.Function]
	if why := in.StartText(); why != "" {
		add(canvas.Plain, "started because", "%s", why)
	}
	if in.Version > 0 {
		add(canvas.Plain, "version", "%d in this drill", in.Version+1)
	}
	switch {
	case in.Parked && in.Ready > 0:
		add(canvas.Cold, "instance start", "%s to resume: a lower bound for any snapshot restore",
			figure.Duration(in.Ready.Sub(in.Spawned)))
	case of.OneShot:
		add(canvas.Cold, "process", "one for this invocation; its start is in the time to the first byte")
	case in.Ready > 0:
		add(canvas.Cold, "instance start", "%s to be ready, noticed within %s",
			figure.Duration(in.Ready.Sub(in.Spawned)), figure.Duration(in.Within))
		add(canvas.Dim, "", "%s of it until the command ran", figure.Duration(max(in.Exec-in.Spawned, 0).Sub(0)))
	default:
		add(canvas.Bad, "instance start", "not ready")
	}
	if in.Stopped > 0 {
		exit := strings.TrimSpace(in.Exit)
		add(canvas.Plain, "instance stop", "%s at %.3f s; %s", in.Reason, in.Stopped.Seconds(), exit)
	} else {
		add(canvas.Plain, "instance", "process %d", in.PID)
	}
	if in.Peak > 0 {
		text := fmt.Sprintf("peak %.1f MiB", mib(in.Peak))
		if of.Memory > 0 {
			text += fmt.Sprintf(" of %.0f, %s", mib(of.Memory), of.Enforced)
		}
		add(canvas.Plain, "memory", "%s", text)
	}
	if in.CPU > 0 {
		text := figure.Duration(in.CPU)
		if of.CPU > 0 {
			text += fmt.Sprintf("; at most %.3g of a processor, %s", of.CPU, of.Enforced)
		}
		add(canvas.Plain, "processor time", "%s", text)
	}
	return lines
}
