package drillview

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/draw"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/figure"
	"nightdrill/internal/core/record"
	"nightdrill/internal/core/text"
	"nightdrill/internal/tui/canvas"
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
	c.Rule(0, "Arrivals")
	m.drawMarks(c, 0, w, len("─ Arrivals ─"))
	y := m.drawArrivals(c, 1, w)
	dock := m.dockRows()
	below := m.below()
	if dock > 0 {
		below = dock + 1
	}
	m.drawLanes(c, y, m.h-y-below, w)
	y = m.h - below
	if dock > 0 {
		m.drawDock(c, m.drawAxis(c, y, w), dock)
		return c
	}
	if m.lower < 2 {
		y = m.drawWaiting(c, y, w)
	}
	y = m.drawAxis(c, y, w)
	y = m.drawChanges(c, y, w)
	if m.lower < 1 {
		m.drawFigures(c, y)
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

// drawArrivals draws a row for each source, all to the same scale.
func (m *Model) drawArrivals(c *canvas.Canvas, y int, w draw.Window) int {
	r := m.chart.Run()
	most := 1
	rows := make([][]int, len(r.Sources))
	totals := make([]int, len(r.Sources))
	names := m.sourceNames(left - 2)
	for s := range r.Sources {
		rows[s], totals[s] = m.chart.Counts(draw.Arrived, s, w)
		for _, n := range rows[s] {
			most = max(most, n)
		}
	}
	for s := range r.Sources {
		if totals[s] == 0 && (m.h < 26 || len(r.Sources[s].To) == 0) {
			continue
		}
		c.PutUpTo(1, y, left-1, canvas.Plain, names[s])
		for i, n := range rows[s] {
			c.Set(left+i, y, canvas.Plain, height(float64(n)/float64(most)))
		}
		c.Right(m.w-1, y, canvas.Dim, fmt.Sprintf("%d events", totals[s]))
		y++
	}
	return y
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

// below returns the rows that stand under the lanes.
func (m *Model) below() int {
	n := 1
	if m.lower < 2 {
		n += m.waitingRows()
	}
	if m.lower < 1 {
		n += m.figureRows()
	}
	if m.changesShown() {
		n++
	}
	return n
}

func (m *Model) waitingRows() int {
	n := 1 // the rule
	for range m.waitingFunctions() {
		n++
	}
	return n + len(m.turnedShown()) + len(m.badlyAnswered())
}

// turnedShown returns the sources with a row for what was rejected or lost: of a low terminal, the
// one with most of it.
func (m *Model) turnedShown() (sources []int) {
	for s := range m.chart.Run().Sources {
		if m.turned(s) {
			sources = append(sources, s)
		}
	}
	if m.h >= 26 || len(sources) < 2 {
		return sources
	}
	lost := func(s int) int {
		_, rejected := m.chart.Counts(draw.Rejected, s, draw.Window{})
		_, lost := m.chart.Counts(draw.Lost, s, draw.Window{})
		return rejected + lost
	}
	return []int{slices.MaxFunc(sources, func(a, b int) int { return cmp.Compare(lost(a), lost(b)) })}
}

// badlyAnswered returns the functions that have answered with a status of 400 or more.
func (m *Model) badlyAnswered() (fns []int) {
	for fn := range m.chart.Run().Functions {
		if _, of4xx, of5xx := m.chart.BadStatuses(fn, draw.Window{}); of4xx+of5xx > 0 {
			fns = append(fns, fn)
		}
	}
	return fns[:min(len(fns), max(1, m.h/12))]
}

// hiddenRows counts what waits, or was rejected or lost, and has no row for want of room.
func (m *Model) hiddenRows() (n int) {
	for s := range m.chart.Run().Sources {
		if m.turned(s) {
			n++
		}
	}
	n -= len(m.turnedShown())
	r := m.chart.Run()
	for fn := range r.Functions {
		if slices.ContainsFunc(r.Sources, func(s record.Source) bool { return len(s.To) > 0 && s.To[0] == fn }) {
			n++
		}
	}
	return n - len(m.waitingFunctions())
}

// waitingFunctions returns the functions that something can wait for.
func (m *Model) waitingFunctions() (fns []int) {
	r := m.chart.Run()
	for fn := range r.Functions {
		for s := range r.Sources {
			if len(r.Sources[s].To) > 0 && r.Sources[s].To[0] == fn {
				fns = append(fns, fn)
				break
			}
		}
	}
	return fns[:min(len(fns), max(1, m.h/8))]
}

// turned reports whether a source has a row for what was rejected or lost.
func (m *Model) turned(s int) bool {
	_, rejected := m.chart.Counts(draw.Rejected, s, draw.Window{})
	_, lost := m.chart.Counts(draw.Lost, s, draw.Window{})
	return rejected+lost > 0
}

func (m *Model) figureRows() int {
	n := len(m.chart.Run().Functions)
	switch {
	case m.h < 24:
		return min(n, 2) + 2
	case m.h < 30:
		return min(n, 3) + 2
	}
	if m.togetherShown() {
		n++
	}
	return n + 2
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

// drawWaiting draws what waited and what was rejected, on the time axis of
// the lanes.
func (m *Model) drawWaiting(c *canvas.Canvas, y int, w draw.Window) int {
	r := m.chart.Run()
	title := "Waiting and rejected"
	if len(m.badlyAnswered()) > 0 {
		title = "Waiting, rejected, and statuses from 400 on"
	}
	if why := m.refusals(); why != "" && m.w >= 60 {
		title += ": rejected " + why
	}
	if m.w >= 130 {
		title += "; each row to its own peak"
	}
	if hidden := m.hiddenRows(); hidden > 0 {
		title += fmt.Sprintf(" (+%s)", text.Plural(hidden, "row"))
	}
	c.Rule(y, title)
	y++
	queues, sources, functions := m.functionNames(left-8), m.sourceNames(left-4), m.functionNames(left-7)
	for _, fn := range m.waitingFunctions() {
		cells := m.chart.Waiting(fn, w)
		most := 0
		for _, n := range cells {
			most = max(most, n)
		}
		c.PutUpTo(1, y, left-1, canvas.Plain, queues[fn]+" queue")
		for i, n := range cells {
			if from, _ := w.Cell(i); from <= r.Length {
				c.Set(left+i, y, canvas.Plain, height(float64(n)/float64(max(most, 1))))
			}
		}
		c.Right(m.w-1, y, canvas.Dim, fmt.Sprintf("peak %d", most))
		y++
	}
	for _, s := range m.turnedShown() {
		rejected, n := m.chart.Counts(draw.Rejected, s, w)
		lost, k := m.chart.Counts(draw.Lost, s, w)
		c.PutUpTo(1, y, left-1, canvas.Bad, "✗ "+sources[s])
		most := 1
		for i := range rejected {
			most = max(most, rejected[i]+lost[i])
		}
		for i := range rejected {
			c.Set(left+i, y, canvas.Bad, height(float64(rejected[i]+lost[i])/float64(most)))
		}
		text := fmt.Sprintf("%d rejected", n)
		if k > 0 && n == 0 {
			text = fmt.Sprintf("%d failed", k)
		} else if k > 0 {
			text = fmt.Sprintf("%d+%d failed", n, k)
		}
		c.Right(m.w-1, y, canvas.Bad, text)
		y++
	}
	for _, fn := range m.badlyAnswered() {
		cells, of4xx, of5xx := m.chart.BadStatuses(fn, w)
		most := 1
		for _, n := range cells {
			most = max(most, n)
		}
		c.PutUpTo(1, y, left-1, canvas.Bad, "≥400 "+functions[fn])
		for i, n := range cells {
			c.Set(left+i, y, canvas.Bad, height(float64(n)/float64(most)))
		}
		var parts []string
		for _, x := range []struct {
			n    int
			name string
		}{{of4xx, "4xx"}, {of5xx, "5xx"}} {
			if x.n > 0 {
				parts = append(parts, fmt.Sprintf("%d × %s", x.n, x.name))
			}
		}
		c.Right(m.w-1, y, canvas.Bad, strings.Join(parts, " "))
		y++
	}
	return y
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
func (m *Model) drawFigures(c *canvas.Canvas, y int) {
	r := m.chart.Run()
	title := "Latency so far, ms"
	if !m.live {
		title = "Latency, ms"
	}
	room := m.h - y - 2
	if m.togetherShown() {
		room--
	}
	if hidden := len(r.Functions) - room; hidden > 0 {
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
	for fn := range r.Functions {
		if y++; y >= m.h {
			return
		}
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
	step("done", v.Done, max(v.Received, v.Assigned), "the rest of the reply")
	add(canvas.Bold, "latency", "%s from due to done", figure.Duration(v.Done.Sub(first.Due)))
	return lines
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
