package wiringview

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
)

// panel is how many rows the panel at the bottom takes at least.
func (m *Model) panel() int {
	if m.h >= 30 {
		return 10
	}
	return 7
}

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	out := canvas.New(m.w, m.h, theme)
	if m.sources() == 0 {
		out.Put(2, 1, canvas.Plain, "The project has no sources yet, so nothing reaches its functions.")
		out.Put(2, 3, canvas.Dim, "Add one under sources: in nightdrill.yaml, such as  fares: {kind: http, wires: "+
			"[{to: quote}]}. It appears here when the file is saved.")
		return out
	}
	if m.choosing {
		m.drawChoices(out)
		return out
	}
	w, words := m.Map(), explain.WiresOf(m.plan)
	p := w.Lay(m.w-2, m.h-m.panel())
	room := min(p.H+1, m.h-m.panel())
	page := canvas.New(m.w-2, p.H, theme)
	m.drawMap(page, w, p, words)
	m.follow(p, words, room)
	out.Draw(1, -m.top, page)
	out.Fill(0, room, m.w, m.h-room)
	if hidden := p.H - room - m.top; hidden > 0 {
		out.Right(m.w-1, room-1, canvas.Dim, fmt.Sprintf(" %d more rows below ", hidden))
	}
	if m.journey != nil {
		m.drawJourney(out, room)
	} else {
		m.drawDetails(out, room)
	}
	return out
}

// follow scrolls to where the cursor, or the event, is.
func (m *Model) follow(p *draw.WiringPlan, words []explain.WireOf, room int) {
	if p.H <= room {
		m.top = 0
		return
	}
	var at draw.Box
	switch src, fn := m.places(); {
	case fn >= 0:
		at = p.Functions[fn]
	case src >= 0:
		at = p.Sources[src]
	}
	m.top = max(min(m.top, at.Y), at.Y+at.H-room)
	m.top = max(min(m.top, p.H-room), 0)
}

// places returns the source and the function at which the event on the map is, or
// the cursor; -1 for none.
func (m *Model) places() (source, function int) {
	if m.journey != nil && m.stop < len(m.journey) {
		x := &m.journey[m.stop]
		function = -1
		if x.Function != "" {
			function = m.plan.FunctionNamed(strings.SplitN(x.Function, "@", 2)[0])
		}
		return m.plan.SourceNamed(x.Source), function
	}
	if m.right {
		return -1, m.at[1]
	}
	return m.at[0], -1
}

// drawMap draws nodes and wires.
func (m *Model) drawMap(c *canvas.Canvas, w *draw.Wiring, p *draw.WiringPlan, words []explain.WireOf) {
	source, function := m.places()
	// what the event on the map has passed
	passed, missed, stopped := map[explain.WireOf]bool{}, map[explain.WireOf]bool{}, map[string]bool{}
	for i := 0; m.journey != nil && i <= m.stop && i < len(m.journey); i++ {
		x := &m.journey[i]
		if n, err := strconv.Atoi(x.Wire); err == nil {
			passed[explain.WireOf{Source: m.plan.SourceNamed(x.Source), Wire: n - 1}] = true
		}
		if n, err := strconv.Atoi(x.Near); err == nil {
			missed[explain.WireOf{Source: m.plan.SourceNamed(x.Source), Wire: n - 1}] = true
		}
		if x.Bad {
			stopped[x.Function+"/"+x.Source] = true
		}
	}
	// plain wires first, so that those that matter lie upon them
	strokes := p.Strokes(w)
	for pass := range 2 {
		var drawn []styled
		for i := range strokes {
			x := words[i]
			style, matters := m.wireStyle(x)
			if m.journey != nil {
				style, matters = canvas.Faint, passed[x] || missed[x]
				if passed[x] && !missed[x] {
					style = canvas.Warm
				}
			} else if x.Source == source || function >= 0 && m.plan.Sources[x.Source].Wires[x.Wire].To == function {
				style, matters = canvas.Plain, true
			}
			if matters == (pass == 1) {
				drawn = append(drawn, styled{strokes[i], style})
			}
		}
		drawStrokes(c, drawn)
	}
	for i := range p.Wires {
		if m.journey == nil || passed[words[i]] || missed[words[i]] {
			m.drawLabel(c, p.Label[i], words[i])
		}
		if missed[words[i]] { // it did not get through
			first := p.Wires[i][0]
			c.Set(first.X, first.Y, canvas.Bad, '✗')
		}
	}
	for i, b := range p.Sources {
		style := canvas.Bold
		if i == source && function < 0 {
			style = canvas.Chosen
		}
		bad := stopped["/"+m.plan.Sources[i].Name]
		if bad {
			style = canvas.ChosenBad
		}
		m.drawSource(c, b, &w.Sources[i], i, style)
	}
	for i, b := range p.Functions {
		style := canvas.Bold
		if i == function {
			style = canvas.Chosen
		}
		for key := range stopped {
			if name, _, _ := strings.Cut(key, "/"); name == m.plan.Functions[i].Name && i == function {
				style = canvas.ChosenBad
			}
		}
		m.drawFunction(c, b, &w.Functions[i], i, style)
	}
}

// wireStyle returns the style of a wire, by its traffic, and whether it carries any.
func (m *Model) wireStyle(x explain.WireOf) (canvas.Style, bool) {
	switch t := m.traffic.Wire(x); {
	case t.Working > 0:
		return canvas.Warm, true
	case t.Waiting > 0:
		return canvas.Cold, true
	}
	return canvas.Faint, false
}

// lines are the glyphs of a stroke, by its arms.
var lines = [16]rune{' ', '│', '─', '╰', '│', '│', '╭', '├', '─', '╯', '─', '┴', '╮', '┤', '┬', '┼'}

// styled is a wire to be drawn.
type styled struct {
	path  []draw.Stroke
	style canvas.Style
}

// drawStrokes draws wires. Where one crosses another that leads elsewhere, the one
// that goes up or down lies above; where it joins one that leads to the same
// function, it flows into it.
func drawStrokes(c *canvas.Canvas, wires []styled) {
	for _, above := range []bool{false, true} {
		for _, w := range wires {
			for _, s := range w.path {
				if across := s.Arms&(draw.North|draw.South) == 0; across != above {
					c.Set(s.X, s.Y, w.style, lines[s.Arms])
				}
			}
		}
	}
	for _, w := range wires {
		last := w.path[len(w.path)-1]
		c.Set(last.X, last.Y, w.style, '▸')
	}
}

// drawLabel writes on a wire what it takes, and what goes over it.
func (m *Model) drawLabel(c *canvas.Canvas, b draw.Box, x explain.WireOf) {
	if b.W < 6 {
		return
	}
	t := m.traffic.Wire(x)
	counts := []count{{t.Done, "done", canvas.Plain}, {t.Bad, "✗", canvas.Bad}, {t.Working, "in flight", canvas.Warm},
		{t.Waiting, "waiting", canvas.Cold}}
	words := text.Harmless(m.plan.Sources[x.Source].WireWords(x.Wire))
	if words == "everything" {
		words = ""
	}
	at, edge := b.X+1, b.X+b.W
	if t != (explain.WireTraffic{}) { // counts stand in columns at the end of the wire, below those of other wires
		begin := edge - countsWidth
		if b.W < leastColumns {
			begin = max(edge-fewWidth, at)
		}
		if words != "" && begin-at > 4 {
			c.PutUpTo(at, b.Y, begin, canvas.Dim, " "+words+" ")
		}
		m.drawCounts(c, begin, b.Y, edge, counts)
		return
	}
	if words != "" && at < edge-8 {
		c.Put(c.PutUpTo(at, b.Y, edge-1, canvas.Dim, " "+words), b.Y, canvas.Dim, " ")
	}
}

// drawCounts writes what went over a wire in columns: what is done, what is not, and what is open; where
// there is little room, without words.
func (m *Model) drawCounts(c *canvas.Canvas, at, y, edge int, counts []count) {
	open := counts[2]
	if few := edge-at < countsWidth; few {
		if open.n += counts[3].n; counts[2].n == 0 {
			open.style = counts[3].style
		}
		for i, k := range []count{counts[0], counts[1], open} {
			sign := [...]string{"✓", "✗", "…"}[i]
			if k.n > 0 && at+6 <= edge {
				c.PutUpTo(at, y, min(at+7, edge), k.style, fmt.Sprintf(" %s%s ", sign, fit(k.n, 4)))
			}
			at += 6
		}
		return
	}
	for i, k := range counts[:3] {
		if i == 2 && k.n == 0 {
			k = counts[3]
		} else if i == 2 && counts[3].n > 0 {
			k.n, k.what = k.n+counts[3].n, "open"
		}
		width := [...]int{11, 7, countsWidth - 18}[i]
		if k.n > 0 {
			words := fmt.Sprintf(" %*s %s ", [...]int{4, 3, 2}[i], fit(k.n, [...]int{5, 4, 8}[i]), k.what)
			c.PutUpTo(at, y, at+width, k.style, words)
		}
		at += width
	}
}

// fit returns a number with at most so many digits, as thousands or millions where it has more.
func fit(n, digits int) string {
	out := strconv.Itoa(n)
	for _, unit := range []string{"k", "M", "G"} {
		if len(out) <= digits {
			break
		}
		n /= 1000
		out = strconv.Itoa(n) + unit
	}
	return out
}

// count is a number of events on a wire.
type count struct {
	n     int
	what  string
	style canvas.Style
}

// countsWidth is the room of a wire's counts with their words, which are drawn where a wire has
// leastColumns cells; fewWidth is their room without words.
const (
	countsWidth  = 38
	leastColumns = countsWidth + 14
	fewWidth     = 19
)

// drawSource writes a source, and below it the figures that its kind lives by.
func (m *Model) drawSource(c *canvas.Canvas, b draw.Box, n *draw.WiringNode, i int, style canvas.Style) {
	src := &m.plan.Sources[i]
	x := c.PutUpTo(b.X, b.Y, b.X+b.W, style, " "+m.shortNames(b.W - 2)[0][i]+" ")
	x = c.PutUpTo(x+1, b.Y, b.X+b.W, canvas.Dim, src.Kind.String())
	if at := src.Fed(); at != nil { // from which broker it gets its messages
		style := canvas.Cold
		if f := m.fedFrom(src.Name); f != nil && f.Trouble != "" {
			style = canvas.Bad
		}
		x = c.PutUpTo(x, b.Y, b.X+b.W, style, " ◂ "+at.Broker)
	}
	if t := m.of(i); t != nil && t.Arrived > 0 {
		x = c.PutUpTo(x+2, b.Y, b.X+b.W, canvas.Plain, fmt.Sprintf("%d in", t.Arrived))
	}
	if len(src.Wires) > 0 { // up to where its first wire begins, which an event may not have passed
		lead := canvas.Faint
		switch {
		case style == canvas.ChosenBad:
			lead = canvas.Bad
		case style == canvas.Chosen && m.journey == nil: // as its wires are then
			lead = canvas.Plain
		}
		for at := x + 1; at < b.X+b.W+2; at++ {
			c.Set(at, b.Y, lead, '─')
		}
	}
	for k := range src.Wires { // where it has several, they part
		part := '├'
		switch k {
		case 0:
			part = '┬'
		case len(src.Wires) - 1:
			part = '╰'
		}
		if len(src.Wires) > 1 {
			c.Set(b.X+b.W+1, b.Y+k, canvas.Faint, part)
		}
	}
	if b.H > 1 {
		m.drawFigures(c, b.X+1, b.Y+1, b.X+b.W, i)
	}
	m.drawWays(c, draw.Box{X: b.X + 1, Y: b.Y + 2, W: b.W - 1, H: b.H - 2}, n, canvas.Bad)
}

// drawWays draws the ways on from a node: a row for each, to the source and to what
// that leads to.
func (m *Model) drawWays(c *canvas.Canvas, b draw.Box, n *draw.WiringNode, counts canvas.Style) {
	edge := b.X + b.W
	for k, way := range n.Ways {
		y := b.Y + k
		if y >= b.Y+b.H {
			return
		}
		line, words := canvas.Faint, canvas.Dim
		went := func(s explain.Stop) bool { // the event on the map
			return s.By == n.Name && s.Source == way.To || s.Dead && s.Source == n.Name
		}
		switch {
		case m.journey != nil && slices.ContainsFunc(m.journey[:min(m.stop+1, len(m.journey))], went):
			line, words = canvas.Warm, canvas.Warm
		case m.journey == nil && !m.right && m.plan.Sources[m.at[0]].Name == way.To:
			line, words = canvas.Plain, canvas.Plain
		}
		start, style, what := "├─", counts, way.Words()
		if k == len(n.Ways)-1 {
			start = "╰─"
		}
		if way.N == 0 || m.journey != nil {
			style, what = words, way.What
		}
		col := c.PutUpTo(b.X, y, edge, line, start)
		col = c.PutUpTo(col, y, edge, style, " "+what+" ")
		col = c.PutUpTo(col, y, edge, line, "─▸")
		col = c.PutUpTo(col, y, edge, words, " "+way.To)
		if way.Then != "" {
			col = c.PutUpTo(col, y, edge, line, " ─▸")
			c.PutUpTo(col, y, edge, words, " "+way.Then)
		}
	}
}

// shortNames returns the names of sources and functions with at most so many characters, each as a whole or
// told apart from the others.
func (m *Model) shortNames(width int) [2][]string {
	if m.short.width == width && m.short.plan == m.plan {
		return m.short.names
	}
	m.short.width, m.short.plan, m.short.names = width, m.plan, [2][]string{}
	for i := range m.sources() {
		m.short.names[0] = append(m.short.names[0], m.plan.Sources[i].Name)
	}
	for i := range m.functions() {
		m.short.names[1] = append(m.short.names[1], m.plan.Functions[i].Name)
	}
	for side := range m.short.names {
		m.short.names[side] = text.Shorten(m.short.names[side], width)
	}
	return m.short.names
}

func (m *Model) of(source int) *explain.SourceTraffic {
	if m.traffic == nil || source >= len(m.traffic.Sources) {
		return nil
	}
	return &m.traffic.Sources[source]
}

// drawFigures writes a source's figures in one line.
func (m *Model) drawFigures(c *canvas.Canvas, x, y, edge, i int) {
	style, content := m.figures(i)
	t := m.of(i)
	if t != nil && t.Unmatched > 0 {
		if x = c.PutUpTo(x, y, edge, canvas.Bad, fmt.Sprintf("%d unmatched  ",
			t.Unmatched)); ansi.StringWidth(content) > edge-x {
			return
		}
	}
	c.PutUpTo(x, y, edge, style, clauses(content, edge-x))
}

// figures returns what the kind of a source lives by.
func (m *Model) figures(i int) (canvas.Style, string) {
	src, t := &m.plan.Sources[i], m.of(i)
	if t == nil {
		return canvas.Dim, ""
	}
	open, working := 0, 0
	for _, w := range t.Wires {
		open, working = open+w.Waiting+w.Working, working+w.Working
	}
	switch src.Kind {
	case plan.HTTP:
		content := fmt.Sprintf("%d open", open)
		if t.Rejected > 0 {
			content += fmt.Sprintf(", %d rejected", t.Rejected)
		}
		return canvas.Dim, content
	case plan.Queue:
		if len(src.Wires) == 0 {
			return canvas.Dim, text.Plural(t.Arrived+m.deadLetters(i), "message") + ", no consumer"
		}
		return canvas.Dim, fmt.Sprintf("depth %d, %d in flight%s", open-working, working, oldest(t.Oldest))
	case plan.Stream:
		lag := 0
		for _, l := range t.Lanes {
			lag += l.Lag
		}
		return canvas.Dim, fmt.Sprintf("lag %d %s%s", lag, lagBars(t.Lanes, 16), oldest(t.Oldest))
	case plan.Storage:
		content := "notified immediately"
		switch {
		case src.Poll > 0 && m.ofRun != nil:
			content = fmt.Sprintf("polled every %v", text.Duration(src.Poll))
		case src.Poll > 0:
			at := time.Duration(m.traffic.Clock)
			content = fmt.Sprintf("next poll in %.1f s", ((at/src.Poll+1)*src.Poll - at).Seconds())
		}
		if open > 0 {
			content = fmt.Sprintf("%d open, ", open) + content
		}
		return canvas.Dim, content
	}
	return canvas.Dim, m.nextTime(src)
}

// deadLetters counts what other sources gave up to a queue that no one reads.
func (m *Model) deadLetters(queue int) (n int) {
	for i := range m.sources() {
		if m.plan.Sources[i].DeadLetter != queue || m.of(i) == nil {
			continue
		}
		for _, w := range m.of(i).Wires {
			n += w.Bad
		}
	}
	return n
}

func oldest(d time.Duration) string {
	if d < 0 {
		return ""
	}
	return fmt.Sprintf(", oldest %s", brief(d))
}

func brief(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// lagBars draws the lag of each partition, as high as the largest; several share
// a bar where there are more than fit.
func lagBars(lanes []explain.LaneTraffic, most int) string {
	if len(lanes) == 0 {
		return ""
	}
	n := min(len(lanes), most)
	values := make([]int, n)
	top := 1
	for i, l := range lanes {
		k := i * n / len(lanes)
		values[k] = max(values[k], l.Lag)
		top = max(top, values[k])
	}
	out := make([]rune, n)
	for i, v := range values {
		out[i] = '·'
		if v > 0 {
			out[i] = []rune("▁▂▃▄▅▆▇█")[min((v*8-1)/top, 7)]
		}
	}
	return string(out)
}

// nextTime describes when a schedule falls due next: by the wall clock, or by the drill's own.
func (m *Model) nextTime(src *plan.Source) string {
	if m.drill != nil {
		for i := range m.drill.Feeds {
			f := &m.drill.Feeds[i]
			if f.Clock == nil || m.plan.Sources[f.Source].Name != src.Name {
				continue
			}
			there := f.Clock.From.Add(time.Duration(float64(m.elapsed) * f.Clock.Speed))
			end := f.Clock.From.Add(f.Clock.For)
			if next := catalog.NextTimes(src, there, 1); len(next) > 0 && next[0].At.Before(end) {
				return fmt.Sprintf("simulated time %s, next %s", there.Format("Mon 15:04"),
					next[0].At.Format("Mon 15:04"))
			}
			return "its clock has ended"
		}
		return "not in this drill"
	}
	next := catalog.NextTimes(src, m.now, 1)
	if len(next) == 0 {
		return "never"
	}
	content := "next " + next[0].At.Format("Mon 15:04")
	if m.s.Ticking() {
		return content + ", in " + brief(next[0].At.Sub(m.now))
	}
	return content + ", paused"
}

// longest returns the longest of some words that fit, or the shortest.
func longest(words []string, room int) string {
	for _, w := range words {
		if ansi.StringWidth(w) <= room {
			return w
		}
	}
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// clauses leaves out the last clauses of what does not fit.
func clauses(content string, room int) string {
	for ansi.StringWidth(content) > room {
		i := strings.LastIndex(content, ", ")
		if i < 0 {
			break
		}
		content = content[:i]
	}
	return content
}

// drawFunction writes a function, how it stands, and where its replies go on to.
func (m *Model) drawFunction(c *canvas.Canvas, b draw.Box, n *draw.WiringNode, i int, style canvas.Style) {
	x := c.PutUpTo(b.X, b.Y, b.X+b.W, style, " "+m.shortNames(b.W - 2)[1][i]+" ")
	state, words := m.states(i)
	if len(words) > 0 {
		words = append([]string{strings.TrimPrefix(words[0], "no instance, ")}, words[1:]...)
	}
	below := b.Y + 1
	if content := longest(words, b.X+b.W-x-1); b.H == 1 || content == longest(words, b.W-1) {
		c.PutUpTo(x+1, b.Y, b.X+b.W, state, content)
	} else {
		c.PutUpTo(b.X+1, below, b.X+b.W, state, longest(words, b.W-1))
		below++
	}
	m.drawWays(c, draw.Box{X: b.X + 1, Y: below, W: b.W - 1, H: b.Y + b.H - below}, n, canvas.Plain)
}

// drawJourney writes the stops of the event on the map on the left, and on the
// right why it went where it is.
func (m *Model) drawJourney(c *canvas.Canvas, y int) {
	c.Rule(y, fmt.Sprintf("Stop %d of %d", m.stop+1, len(m.journey)))
	rows := m.h - y - 1
	half := m.w * 9 / 20
	top := max(min(m.stop-rows/2, len(m.journey)-rows), 0)
	for i := top; i < min(top+rows, len(m.journey)); i++ {
		x := &m.journey[i]
		style, mark := canvas.Dim, "  "
		switch {
		case i == m.stop && x.Bad:
			style, mark = canvas.ChosenBad, "▸ "
		case i == m.stop:
			style, mark = canvas.Chosen, "▸ "
		case i < m.stop && x.Bad:
			style = canvas.Bad
		case i < m.stop:
			style = canvas.Warm
		}
		c.PutUpTo(1, y+1+i-top, half, style, mark+text.Harmless(x.Text))
	}
	x := &m.journey[m.stop]
	var why []canvas.Row
	for _, l := range append([]string{x.Text}, x.Lines...) {
		style := canvas.Plain
		if strings.Contains(l, "fails  ") || x.Bad && !strings.Contains(l, "holds  ") {
			style = canvas.Bad
		}
		why = append(why, canvas.Rows(style, strings.Split(ansi.Wrap(text.Harmless(l), m.w-half-3, ""), "\n")...)...)
	}
	if x.Near != "" {
		why = append(why, canvas.Row{}, canvas.Row{{Style: canvas.Dim,
			Text: "Fix the wire in nightdrill.yaml, then press o to offer it again."}})
	}
	for i, row := range why[:min(len(why), rows)] {
		c.PutRow(half+2, y+1+i, m.w-1, row)
	}
}

// drawDetails writes all that is known of what is under the cursor.
func (m *Model) drawDetails(c *canvas.Canvas, y int) {
	title, lines := m.about()
	c.Rule(y, title)
	edge, rows := m.w-1, m.h-y-1
	if m.w >= 100 {
		edge = m.w * 9 / 20
		m.drawLast(c, edge+2, y, rows)
	}
	var content []canvas.Row
	for _, l := range lines {
		content = append(content, canvas.Rows(canvas.Plain, strings.Split(ansi.Wrap(text.Harmless(l), edge-2, ""),
			"\n")...)...)
	}
	if left := rows - len(content); left > 2 { // there is room for it, and for an empty row above
		rows -= m.drawTrend(c, 2, min(y+rows, y+len(content)+4), edge)
	}
	for i, row := range content[:min(len(content), rows)] {
		c.PutRow(2, y+1+i, edge, row)
	}
}

// drawLast lists what came last to what is under the cursor, and what happened to it.
func (m *Model) drawLast(c *canvas.Canvas, x, y, rows int) {
	name, dead := "", map[string]bool{}
	if m.right {
		name = m.plan.Functions[m.at[1]].Name
	} else {
		name = m.plan.Sources[m.at[0]].Name
		for i := range m.sources() {
			if m.plan.Sources[i].DeadLetter == m.at[0] {
				dead[m.plan.Sources[i].Name] = true
			}
		}
	}
	wanted := func(e *explain.Delivered) bool {
		if m.right {
			return e.Function == name
		}
		return e.Source == name || dead[e.Source] && !e.Open && e.Outcome == engine.DeadLettered
	}
	var all []explain.Delivered
	switch {
	case m.live != nil:
		all = explain.LatestEnded(m.live, rows, wanted)
	case m.ofRun != nil:
		all = explain.LatestEnded(m.run, rows, wanted)
	default:
		all = m.s.LatestDelivered(rows, wanted)
	}
	if len(all) == 0 {
		return
	}
	c.Put(x, y, canvas.Dim, " Latest events ")
	for i, e := range all {
		style, edge := canvas.Plain, m.w-1
		switch {
		case e.Open:
			style = canvas.Warm
		case e.Outcome != engine.Done:
			style = canvas.Bad
		}
		words, _, _ := strings.Cut(e.Word(), ",")
		if !e.Open && e.Outcome != engine.Unmatched {
			words += " in " + brief(e.Took)
		}
		at := c.PutUpTo(x, y+1+i, edge, canvas.Dim, fmt.Sprintf("%-9s ", e.At))
		room, label := edge-at-22, text.Harmless(e.Label)
		to := name == e.Source && e.Function != "" && room-len(e.Function)-3 >= 20
		if to {
			room -= len(e.Function) + 3
		}
		from := m.plan.SourceNamed(e.Source)
		request := from >= 0 && m.plan.Sources[from].Kind == plan.HTTP
		if wide := ansi.StringWidth(label); wide > room && !request { // its end tells it from others
			label = ansi.TruncateLeft(label, wide-room+1, "…")
		}
		c.PutUpTo(at, y+1+i, at+room, canvas.Plain, label)
		if at = at + room + 1; to {
			at = c.PutUpTo(at, y+1+i, edge, canvas.Dim, "→ "+e.Function) + 1
		}
		c.PutUpTo(at, y+1+i, edge, style, words)
	}
}

// about returns what is said of what is under the cursor; with an event on the map, of the stop that it is at.
func (m *Model) about() (title string, lines []string) {
	switch {
	case m.journey != nil && m.stop < len(m.journey):
		x := &m.journey[m.stop]
		return x.Text, x.Lines
	case m.right:
		return m.aboutFunction(m.at[1])
	}
	return m.aboutSource(m.at[0])
}

// fedFrom returns how a source stands that gets messages of a broker; nil where it gets none now.
func (m *Model) fedFrom(source string) *session.BrokerFeed {
	for _, f := range m.s.BrokerFeeds() {
		if f.Source == source {
			return &f
		}
	}
	return nil
}

func (m *Model) aboutSource(i int) (string, []string) {
	src := &m.plan.Sources[i]
	lines := []string{explain.SourceWords(&m.plan.Project, src)}
	t := m.of(i)
	if t != nil {
		_, now := m.figures(i)
		content := now
		if t.Arrived > 0 || len(src.Wires) > 0 {
			content += fmt.Sprintf("; %d received", t.Arrived)
		}
		for _, x := range []struct {
			n    int
			what string
		}{{t.Unmatched, "unmatched"}, {t.Rejected, "rejected"}, {t.Skipped, "skipped"}} {
			if x.n > 0 {
				content += fmt.Sprintf(", %d %s", x.n, x.what)
			}
		}
		if t.Oldest >= 0 {
			content += ", the oldest open one for " + brief(t.Oldest)
		}
		lines = append(lines, content)
	}
	if at := src.Fed(); at != nil {
		f := m.fedFrom(src.Name)
		if f == nil {
			f = &session.BrokerFeed{Broker: at.Broker, Place: "its messages", Takes: src.Taken != nil,
				Trouble: "not while a drill runs"}
		}
		lines = append(lines, f.Words())
	}
	switch src.Kind {
	case plan.Storage:
		if a := m.s.Objects.Address(); a != "" {
			lines = append(lines, fmt.Sprintf("curl -T FILE http://%s/%s/KEY puts an object here; GET http://%s/%s "+
				"lists them", a, src.Bucket, a, src.Bucket))
		}
	case plan.Schedule:
		for _, n := range catalog.NextTimes(src, m.now, 4) {
			content := n.At.Format("Mon 2006-01-02 15:04:05 -0700")
			if n.Note != "" {
				content += "  " + n.Note
			}
			lines = append(lines, content)
		}
	case plan.Stream:
		if t != nil {
			for k, l := range t.Lanes {
				if l.Lag == 0 {
					continue
				}
				content := fmt.Sprintf("partition %d: %d records behind, for %s", k+1, l.Lag, brief(max(l.Age, 0)))
				if l.Alone {
					content += ", a batch is being halved to find its bad record"
				} else if l.Tries > 0 {
					content += fmt.Sprintf(", its batch failed %d times", l.Tries)
				}
				lines = append(lines, content)
			}
		}
	case plan.HTTP:
		if m.s.Front != nil {
			lines = append(lines, "requests come in at http://"+m.s.Front.Address)
		}
	}
	if url, _ := m.s.Publishing(); url != "" && src.Kind.Published() {
		lines = append(lines, "events are published at "+url+"/"+src.Name)
		if mqtt := m.s.PublishingMQTT(); mqtt != "" {
			lines = append(lines, "and over MQTT at "+mqtt+", topic "+src.Name)
		}
	}
	for k := range src.Wires {
		lines = append(lines, fmt.Sprintf("wire %d takes %s, to %s", k+1, src.WireWords(k),
			m.plan.Functions[src.Wires[k].To].Name))
	}
	return src.Name, lines
}

func (m *Model) aboutFunction(i int) (string, []string) {
	f := &m.plan.Functions[i]
	_, state := m.states(i)
	lines := []string{longest(state, m.w), fmt.Sprintf("max %d, %d on each instance; timeout %v; idle ones stop "+
		"after %v", f.Limits.Max, f.Limits.PerInstance, text.Duration(f.Timeout), text.Duration(f.Limits.IdleAfter))}
	for s := range m.sources() {
		for k, w := range m.plan.Sources[s].Wires {
			if w.To == i {
				t := m.traffic.Wire(explain.WireOf{Source: s, Wire: k})
				lines = append(lines, fmt.Sprintf("from %s, wire %d: %d done, %d failed, %d waiting, %d in flight",
					m.plan.Sources[s].Name, k+1, t.Done, t.Bad, t.Waiting, t.Working))
			}
		}
	}
	all := m.s.Neighbours()
	for _, k := range f.Upstreams {
		if k < len(all) {
			lines = append(lines, all[k].Words())
		}
	}
	for k := range f.Then {
		lines = append(lines, "its reply is sent on to "+m.plan.Sources[f.Then[k].To].Name+f.Then[k].Words())
	}
	return f.Name, lines
}

// drawChoices lists the events that can be put on the map.
func (m *Model) drawChoices(c *canvas.Canvas) {
	title := "Put an event on the map, of " + m.plan.Sources[m.source()].Name
	if m.want != "" {
		title += fmt.Sprintf(": %d of %d with “%s”", len(m.choices), len(m.events), text.Harmless(m.want))
	}
	c.Rule(0, title)
	if len(m.choices) == 0 {
		c.Put(2, 2, canvas.Dim, "No event has that. / asks again, esc lists all.")
	}
	room := m.h - 2
	top := max(min(m.chosen-room/2, len(m.choices)-room), 0)
	shown := m.choices[top:min(top+room, len(m.choices))]
	split := 20 // beyond the longest label, and up to two thirds
	for _, x := range m.choices {
		split = max(split, min(ansi.StringWidth(text.Harmless(x.label))+5, m.w*2/3))
	}
	for i, x := range shown {
		style, mark := canvas.Plain, "  "
		if top+i == m.chosen {
			style, mark = canvas.Chosen, "▸ "
		}
		at := c.PutUpTo(1, 1+i, split, style, mark+text.Harmless(x.label))
		at = c.PutUpTo(max(at+2, split), 1+i, m.w-1, canvas.Dim, text.Harmless(x.what))
		if x.bad {
			c.PutUpTo(at+2, 1+i, m.w-1, canvas.Bad, "no wire takes it")
		}
	}
}
