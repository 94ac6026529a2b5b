package fireview

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/tui/canvas"
)

// stripRows is how high the strip of the last firings is: its rule, the bars,
// and their classes.
func (m *Model) stripRows() int {
	switch {
	case m.h >= 38:
		return 7
	case m.h >= 24:
		return 5
	}
	return 4
}

func (m *Model) listWidth() int {
	switch {
	case m.w >= 150:
		return 62
	case m.w >= 100:
		return m.w * 2 / 5
	}
	return m.w * 3 / 8
}

// answerWidth is the room for what the function said.
func (m *Model) answerWidth() int { return m.w - m.listWidth() - 3 }

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	c := canvas.New(m.w, m.h, theme)
	if m.over != nil {
		m.over.draw(c, m)
		return c
	}
	strip := m.stripRows()
	left, right, height := m.listWidth(), m.answerWidth(), m.h-strip
	// the list has the room that the payload below it does not need, and a third at least
	below := len(m.sentRows(left-3)) + 1
	rows := min(max(height-below, height/3, 4), max(len(m.items)+len(m.counts)+1, 4))
	m.drawList(c, left, rows)
	m.drawSent(c, rows, left, height)
	for y := range height {
		c.Set(left, y, canvas.Faint, '│')
	}
	a := canvas.New(right, height, theme)
	m.drawAnswer(a)
	c.Draw(left+2, 0, a)
	m.drawStrip(c, height, strip)
	return c
}

func (m *Model) drawList(c *canvas.Canvas, w, h int) {
	title := "Payloads"
	if m.filter != "" || m.typing != nil {
		title = fmt.Sprintf("Payloads: %d of %d with", len(m.items), len(m.s.List()))
	}
	x := m.panes.Heading(c, 0, 0, w, onList, title)
	switch {
	case m.typing != nil:
		m.typing.Draw(c, x+1, 0, w, canvas.Warm)
	case m.filter != "":
		c.PutUpTo(x+1, 0, w, canvas.Warm, m.filter)
	}
	if len(m.items) == 0 {
		content := []string{"No payloads yet.", "b creates one and opens it in your editor."}
		if m.filter != "" {
			content = []string{"Nothing matches the filter.", "esc clears it."}
		}
		for i, l := range content {
			c.PutUpTo(2, 1+i, w, canvas.Dim, l)
		}
		return
	}
	var sources []string
	for name := range m.counts {
		sources = append(sources, name)
	}
	headings := map[string]string{}
	for i, short := range text.Shorten(sources, w-10) {
		headings[sources[i]] = fmt.Sprintf("%s  %d", short, m.counts[sources[i]])
	}
	m.drawn.Draw(c, 2, 1, w, h-1, len(m.items), m.at, func(i int) string { return headings[m.sourceOf(i)] },
		func(n, y int) {
			i, style := m.items[n], canvas.Plain
			if i.Wrong != "" {
				style = canvas.Bad
			}
			x := c.PutUpTo(4, y, w, style, i.Title())
			c.PutUpTo(x+2, y, w, canvas.Dim, text.Harmless(i.Label))
		})
}

func (m *Model) drawSent(c *canvas.Canvas, y, w, bottom int) {
	title := "Payload, " + [...]string{"formatted", "raw", "its bytes"}[m.form]
	i := m.item()
	if i != nil && i.File != "" {
		title += " · saved payload"
	}
	x := m.panes.Heading(c, 0, y, w, onSent, title)
	if i == nil {
		return
	}
	if row := m.variants(i); len(row) > 0 {
		wide := row.Width()
		if x+2+wide >= w { // below the title, where it has no room beside it
			y++
			c.Fill(0, y, w, 1)
		}
		c.PutRow(max(w-1-wide, 2), y, w, row)
	}
	m.panes.Rows(c, 2, y+1, w, bottom, m.sentRows(w-3), onSent)
}

// variants returns which of the variants behind a payload's source the next event goes to; nothing where
// there are none.
func (m *Model) variants(i *catalog.Item) (row canvas.Row) {
	all := m.s.Variants(i.SourceName)
	if len(all) == 0 {
		return nil
	}
	chosen := m.variantOf(i)
	for _, v := range append([]string{""}, all...) {
		name := "base"
		if v != "" {
			name = "@" + v
		}
		span := canvas.Span{Style: canvas.Dim, Text: "  " + name}
		if v == chosen {
			if address := m.variantAddress(i); address != m.s.Front.At() {
				name += " at http://" + address
			}
			span = canvas.Span{Style: canvas.Warm, Text: " ▸" + name}
		}
		row = append(row, span)
	}
	return row
}

// drawAnswer draws what happened to the firing that is shown.
func (m *Model) drawAnswer(c *canvas.Canvas) {
	if m.shown == nil {
		m.drawInvitation(c)
		return
	}
	if m.page.v.Firing != m.shown {
		m.panes.Heading(c, 0, 0, c.W, onReply, "Reading")
		return
	}
	p := &m.page
	v := &p.v
	y := m.drawHead(c, p)
	if v.Refused != nil || p.failedStart() {
		m.drawTrouble(c, p, y)
		return
	}
	t := v.Last()
	if t == nil {
		if v.Over {
			m.drawUnanswered(c, p, y)
		}
		return
	}
	for _, content := range p.tries {
		c.PutUpTo(2, y, c.W, canvas.Bad, text.Harmless(content))
		y++
	}
	for _, row := range p.onward[:min(len(p.onward), max(c.H/3, 1))] {
		c.PutRow(2, y, c.W, row)
		y++
	}
	if t.Result != engine.OK && t.Over {
		content := t.Why
		if content == "" {
			content = t.Result.String()
		}
		for _, row := range canvas.Wrap(canvas.Rows(canvas.Bad, text.Harmless(content)), c.W-3) {
			c.PutRow(2, y, c.W, row)
			y++
		}
	}
	if y = m.drawVerdicts(c, p, y); len(p.verdicts) > 0 && c.H < 30 {
		y-- // no line between them where lines are few
	}
	y = m.drawLadder(c, p, y)
	y = m.drawDifferences(c, p, y)
	logRows := min(max(len(p.log), 1)+1, max((c.H-y)/2, 3))
	logTop := c.H - logRows
	if len(p.reply) > 0 { // below a short reply, else as low as it can
		logTop = min(logTop, y+len(p.reply)+2)
	}
	logTop = max(logTop, y-1) // nothing is written over
	m.drawReply(c, p, y, logTop)
	m.drawLog(c, p, logTop)
}

// failedStart reports whether the event was lost to starts that failed.
func (p *page) failedStart() bool {
	t := p.v.Last()
	return t != nil && t.Over && t.Name == "" && t.Result == engine.StartFailure
}

func (m *Model) drawInvitation(c *canvas.Canvas) {
	y := 2
	put := func(style canvas.Style, content string) {
		for line := range strings.SplitSeq(ansi.Wrap(content, min(c.W-3, 66), ""), "\n") {
			c.PutUpTo(2, y, c.W, style, line)
			y++
		}
		y++
	}
	put(canvas.Bold, "What does the function reply?")
	put(canvas.Plain, "enter fires the payload on the left; the reply, the log lines of that invocation and where "+
		"the time went appear here.")
	put(canvas.Plain, "Fire it again: what was cold is now warm, and differences from the previous reply are marked.")
	put(canvas.Plain, "w fires it again after each change of the code.")
	if m.s.Front != nil {
		content := "Requests to http://" + m.s.Front.Address + " appear here too."
		if m.s.Front.Note != "" {
			content += " (" + m.s.Front.Note + ".)"
		}
		put(canvas.Dim, content)
	}
	if trouble := m.s.Trouble(); trouble != "" {
		put(canvas.Bad, text.Harmless(trouble))
	}
	if apart := m.s.Apart(); apart != "" {
		put(canvas.Dim, "Note: "+apart+".")
	}
}

// drawHead draws what was fired, how it ended and how long it took.
func (m *Model) drawHead(c *canvas.Canvas, p *page) (y int) {
	v := &p.v
	what := fmt.Sprintf("%s %s", v.Item.SourceName, v.Item.Title())
	if v.Origin == session.AtFront {
		what = v.Item.SourceName + " " + text.Harmless(v.Item.Label)
	}
	edge := c.W - 1
	when := fmt.Sprintf("%d · %s %s", v.N, age(v.At), v.Origin)
	if v.Async {
		when += ", async"
	}
	c.Right(edge, 0, canvas.Dim, when)
	m.panes.Heading(c, 0, 0, edge-ansi.StringWidth(when)-2, onReply, what)
	t := v.Last()
	x := 2
	switch {
	case v.Refused != nil:
		c.Put(x, 1, canvas.Bad, "✗ not sent")
		return 3
	case !v.Over:
		content := "in progress"
		if v.Doing != "" {
			content = v.Doing
		}
		x = c.Put(x, 1, canvas.Warm, fmt.Sprintf("… %s, %.1f s", content, time.Since(v.At).Seconds()))
		c.Put(x+2, 1, canvas.Dim, "esc stops waiting")
		if t == nil || t.Reply == nil {
			return 3
		}
	}
	if t != nil && t.Reply != nil && t.Reply.Status > 0 {
		style := canvas.Good
		if t.Reply.Status >= 400 {
			style = canvas.Bad
		}
		x = c.Put(x, 1, style, fmt.Sprintf("%d %s", t.Reply.Status, statusText(t.Reply.Status)))
		x = c.Put(x+2, 1, canvas.Plain, canvas.Size(t.Reply.Size))
		if kind := t.Reply.Header.Get("Content-Type"); kind != "" && x < c.W-40 {
			c.PutUpTo(x+2, 1, c.W-22, canvas.Dim, text.Harmless(kind))
		}
	} else if v.Over {
		c.Put(x, 1, canvas.Bad, "✗ "+strings.ReplaceAll(v.Outcome().String(), "_", " "))
	}
	if t != nil && t.Over && t.Name != "" {
		c.Right(edge, 1, classStyle(t.Invocation.Class), fmt.Sprintf("%s %v in %s", classGlyph(t.Invocation.Class),
			t.Invocation.Class, duration(v.Latency())))
		content := fmt.Sprintf("%s · %s", t.Name, t.Version)
		if outcome := v.Outcome(); outcome != engine.Done && v.Over {
			content = strings.ReplaceAll(outcome.String(), "_", " ") + " · " + content
		}
		if t.Version == "attached" {
			content += ", its starts are not measured"
		}
		if t.Beside > 0 {
			content += fmt.Sprintf(" · beside %d others on this instance", t.Beside)
		}
		if p.before != nil && p.before.Last().Version != t.Version {
			content += " · before: " + p.before.Last().Version
		}
		c.PutUpTo(2, 2, c.W, canvas.Dim, content)
		return 4
	}
	return 3
}

func classStyle(k engine.Class) canvas.Style {
	if k == engine.Warm {
		return canvas.Warm
	}
	return canvas.Cold
}

func classGlyph(k engine.Class) string { return [...]string{"●", "◆", "◇"}[k] }

// duration is a time with three digits that count.
func duration(d time.Duration) string {
	ms := float64(d) / 1e6
	switch {
	case ms < 10:
		return fmt.Sprintf("%.2f ms", ms)
	case ms < 100:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 10_000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

// drawLadder draws where the time went: each phase begins where the one above
// it ended.
func (m *Model) drawLadder(c *canvas.Canvas, p *page, y int) int {
	if len(p.phases) == 0 {
		return y
	}
	from, to := p.phases[0].From, p.phases[len(p.phases)-1].To
	const names, figures = 14, 10
	width := c.W - names - figures - 4
	at := func(share float64) int { return int(math.Round(share * float64(width*2))) }
	for _, ph := range p.phases {
		c.PutUpTo(2, y, 2+names, canvas.Plain, ph.Name)
		c.Right(2+names+figures-1, y, canvas.Plain, duration(ph.Took()))
		a, b := at(float64(ph.From-from)/float64(to-from)), at(float64(ph.To-from)/float64(to-from))
		style := canvas.Warm
		if ph.Start {
			style = canvas.Cold
		}
		bar(c, 2+names+figures, y, style, a, max(b, a+1))
		y++
	}
	for _, row := range p.heldBack {
		c.PutRow(2, y, c.W, row)
		y++
	}
	for _, own := range p.own {
		content := own.Name
		if own.Says != "" {
			content += " (" + own.Says + ")"
		}
		if own.Took > 0 {
			c.Right(2+names+figures-1, y, canvas.Dim, duration(own.Took))
		}
		c.PutUpTo(3, y, 2+names, canvas.Dim, text.Harmless(content))
		c.PutUpTo(2+names+figures, y, c.W, canvas.Dim, report.OwnWords(own.Name))
		y++
	}
	y = m.drawInside(c, p, y, func(t clock.Time) int { return at(float64(t-from) / float64(to-from)) })
	return y + 1
}

// drawInside draws the calls to upstreams and the spans of the invocation, on the ladder's axis; at gives the half
// cell of a time.
func (m *Model) drawInside(c *canvas.Canvas, p *page, y int, at func(clock.Time) int) int {
	const names, figures = 14, 10
	rows := max(c.H/4, 3)
	for i := range p.inside {
		if x := &p.inside[i]; i < rows-1 || i == rows-1 && len(p.inside) == rows {
			left := 2 + names + figures
			cells := c.W - left - 2
			a, b := min(max(at(x.From), 0), 2*cells-1), min(max(at(x.To), 0), 2*cells)
			style, name := canvas.Field, x.Name
			if x.Call {
				style, name = canvas.Warm, "→ "+x.Name
			}
			if x.Bad {
				style = canvas.Bad
			}
			c.PutUpTo(3+min(x.Depth, 4), y, 2+names, style, text.Harmless(name))
			c.Right(2+names+figures-1, y, canvas.Dim, duration(x.To.Sub(x.From)))
			bar(c, left, y, style, a, max(b, a+1))
			if words := text.Harmless(strings.TrimSpace(x.Label + "  " + x.Note)); words != "" {
				// beside the bar, where there is more room
				if before, after := a/2-1, cells-(b+1)/2-1; after >= before {
					c.PutUpTo(left+(b+1)/2+1, y, c.W, canvas.Dim, words)
				} else {
					c.PutUpTo(left+max(before-ansi.StringWidth(words), 0), y, left+before, canvas.Dim, words)
				}
			}
			y++
			continue
		}
		c.PutUpTo(3, y, c.W, canvas.Dim, fmt.Sprintf("and %d more: nightdrill fire lists them all", len(p.inside)-i))
		y++
		break
	}
	return y
}

// bar draws from one half cell up to another.
func bar(c *canvas.Canvas, x, y int, style canvas.Style, a, b int) {
	for cell := a / 2; cell*2 < b; cell++ {
		left, right := cell*2 >= a, cell*2+1 < b
		switch {
		case left && right:
			c.Set(x+cell, y, style, '━')
		case left:
			c.Set(x+cell, y, style, '╸')
		default:
			c.Set(x+cell, y, style, '╺')
		}
	}
}

func (m *Model) drawVerdicts(c *canvas.Canvas, p *page, y int) int {
	if len(p.verdicts) == 0 {
		return y
	}
	broke := 0
	for _, v := range p.verdicts {
		if !v.Held {
			broke++
			x := c.PutUpTo(2, y, c.W, canvas.Bad, "✗ expected "+text.Harmless(v.Text))
			c.PutUpTo(x, y, c.W, canvas.Plain, ", got "+text.Harmless(v.Got))
			y++
		}
	}
	if broke == 0 {
		var all []string
		for _, v := range p.verdicts {
			all = append(all, v.Text)
		}
		c.PutUpTo(2, y, c.W, canvas.Good, "✓ as expected: "+text.Harmless(strings.Join(all, ", ")))
		y++
	}
	return y + 1
}

// differencesShown is how many differences are named.
const differencesShown = 6

func (m *Model) drawDifferences(c *canvas.Canvas, p *page, y int) int {
	if p.before == nil {
		return y
	}
	out := len(m.leaveOut[p.v.Item.Key()])
	suffix := ""
	if out > 0 {
		suffix = fmt.Sprintf(" (%d left out)", out)
	}
	if len(p.differences) == 0 {
		c.PutUpTo(2, y, c.W, canvas.Dim, fmt.Sprintf("= the same reply as firing %d%s", p.before.N, suffix))
		return y + 2
	}
	c.PutUpTo(2, y, c.W, canvas.Warm, fmt.Sprintf("≠ differs from firing %d in %s%s", p.before.N,
		text.Plural(len(p.differences), "place"), suffix))
	y++
	most := differencesShown
	if c.H < 30 {
		most = 3
	}
	for i, d := range p.differences {
		if i == most {
			c.Put(4, y, canvas.Dim, fmt.Sprintf("and %d more", len(p.differences)-most))
			y++
			break
		}
		x := c.PutUpTo(4, y, c.W, canvas.Field, text.Harmless(d.At))
		was, is := text.Harmless(d.Was), text.Harmless(d.Is)
		if was == "" {
			was = "nothing"
		}
		if is == "" {
			is = "nothing"
		}
		room := max((c.W-x-6)/2, 8)
		x = c.PutUpTo(x+2, y, min(x+2+room, c.W), canvas.Dim, was)
		x = c.PutUpTo(x+1, y, c.W, canvas.Dim, "→")
		c.PutUpTo(x+1, y, c.W, canvas.Plain, is)
		y++
	}
	return y + 1
}

func (m *Model) drawReply(c *canvas.Canvas, p *page, y, bottom int) {
	if p.v.Last().Reply == nil || p.v.Last().Reply.Status == 0 || y >= bottom {
		return
	}
	title := "Reply"
	if p.note != "" {
		title += ": " + p.note
	}
	style := canvas.Dim
	if m.panes.Focus == onReply {
		style = canvas.Bold
	}
	c.PutUpTo(2, y, c.W, style, text.Harmless(title))
	m.panes.Rows(c, 2, y+1, c.W, bottom, p.reply, onReply)
}

func (m *Model) drawLog(c *canvas.Canvas, p *page, y int) {
	title := fmt.Sprintf("Log: %s, ms since dispatch", text.Plural(p.lines, "line"))
	if len(p.log) == 0 {
		title = "no log output"
	}
	if t := p.v.Last(); t.Beside > 0 && len(p.log) > 0 {
		title += fmt.Sprintf(" (some may be of the %d beside it)", t.Beside)
	}
	m.panes.Heading(c, 0, y, c.W, onLog, title)
	m.panes.Rows(c, 2, y+1, c.W, c.H, p.log, onLog)
}

// drawTrouble draws why there was no reply: what happened, what to do, and what
// the function or the build wrote.
func (m *Model) drawTrouble(c *canvas.Canvas, p *page, y int) {
	content := ""
	if p.v.Refused != nil {
		content = p.v.Refused.Text
	} else {
		t := p.v.Last()
		content = p.function + " " + t.Why
	}
	// the last line of the output stands below, with those before it
	head, _, _ := strings.Cut(content, "; its last line: ")
	for _, row := range canvas.Wrap(canvas.Rows(canvas.Bad, text.Harmless(head)), c.W-3) {
		c.PutRow(2, y, c.W, row)
		y++
	}
	y++
	if len(p.log) > 0 {
		m.panes.Heading(c, 0, y, c.W, onLog, "Last log lines")
		m.panes.Rows(c, 2, y+1, c.W, c.H-2, p.log, onLog)
		y = min(y+1+len(p.log), c.H-2)
	}
	next := "Fix and save, then press enter to fire again"
	switch {
	case p.v.Refused != nil && p.v.Refused.Held:
		next = "When the drill is over, enter fires it"
	case m.s.Again():
		next = "Fix and save: it is fired again automatically"
	}
	c.PutUpTo(2, min(y+1, c.H-1), c.W, canvas.Dim, next)
}

// drawUnanswered draws an event that no attempt was made for.
func (m *Model) drawUnanswered(c *canvas.Canvas, p *page, y int) {
	content := map[engine.Outcome]string{
		engine.Unmatched: "No wire of " + p.v.Item.SourceName + " takes this event.",
		engine.Rejected:  "Rejected: no instance was free, and the limits allow no more.",
		engine.Abandoned: "Interrupted.",
		engine.Expired:   "Expired: it waited longer than the source allows.",
		engine.Skipped:   "Skipped: the function was still busy with an earlier one.",
	}[p.v.Outcome()]
	c.PutUpTo(2, y, c.W, canvas.Bad, content)
	if p.v.Outcome() == engine.Unmatched {
		pl := m.s.Plan()
		y++
		if len(p.steps) > 0 {
			for _, row := range canvas.Wrap(canvas.Rows(canvas.Plain, text.Harmless(p.steps[0].Why)), c.W-3) {
				c.PutRow(2, y, c.W, row)
				y++
			}
		}
		c.PutUpTo(2, y, c.W, canvas.Dim, "g traces it on the map")
		y += 2
		c.PutUpTo(2, y, c.W, canvas.Plain, "Its wires want:")
		src := &pl.Sources[p.v.Item.Source]
		for k, w := range src.Wires {
			y++
			c.PutUpTo(4, y, c.W, canvas.Plain, text.Harmless(src.WireWords(k))+"  → "+pl.Functions[w.To].Name)
		}
	}
}

// drawStrip draws the last firings, their time as the height of a bar on a
// logarithmic scale, their class below it.
func (m *Model) drawStrip(c *canvas.Canvas, y, h int) {
	sub := canvas.New(c.W, h, c.Theme())
	sub.Rule(0, "Latest firings, ms, logarithmic: ◆ cold  ◇ first  ● warm  ✗ failed")
	rows := h - 2
	least, most := math.Inf(1), math.Inf(-1)
	shown := m.firings
	const left = 9
	if room := (c.W - left - 1) / 2; len(shown) > room {
		shown = shown[len(shown)-room:]
	}
	for _, f := range shown {
		if f.took > 0 {
			l := math.Log10(float64(f.took) / 1e6)
			least, most = min(least, l), max(most, l)
		}
	}
	if len(shown) == 0 || math.IsInf(least, 0) {
		sub.Put(left, 2, canvas.Dim, "none yet")
		c.Draw(0, y, sub)
		return
	}
	low, high := math.Floor(least), math.Ceil(most)
	if high <= low {
		high = low + 1
	}
	// a mark at each decade that falls on a row of its own
	for d := low; d <= high; d++ {
		row := rows - int(math.Round((d-low)/(high-low)*float64(rows)))
		if row < 0 || d == low {
			continue
		}
		if sub.Right(left-2, 1+row, canvas.Dim, decade(d)); row < rows {
			for x := left; x < c.W-1; x++ {
				sub.Set(x, 1+row, canvas.Faint, '·')
			}
		}
	}
	sub.Right(left-2, h-1, canvas.Dim, decade(low))
	dots := canvas.NewDots(c.W-left-1, rows)
	for i, f := range shown {
		x := left + 2*i
		style, glyph := classStyle(f.class), classGlyph(f.class)
		switch {
		case !f.over:
			style, glyph = canvas.Dim, "…"
		case !f.good:
			style, glyph = canvas.Bad, "✗"
		}
		if f.took > 0 {
			at := dots.Rise((math.Log10(float64(f.took)/1e6) - low) / (high - low))
			for _, k := range []int{at, at + 1} { // the upper one is it
				dots.Set(4*i, k, style)
				dots.Set(4*i+1, k, style)
			}
		}
		sub.Put(x, h-1, style, glyph)
		if f.f == m.shown {
			sub.Restyle(x, h-1, 1, canvas.Chosen)
		}
	}
	dots.Draw(sub, left, 1)
	c.Draw(0, y, sub)
}

// decade names a power of ten of milliseconds.
func decade(d float64) string {
	ms := math.Pow(10, d)
	if ms >= 1000 {
		return fmt.Sprintf("%.0f s", ms/1000)
	}
	return fmt.Sprintf("%g ms", math.Round(ms*1000)/1000)
}
