// Package findings is the view of what a run says: the answer in sentences,
// then cold, first and warm side by side, outcomes, budgets and warnings.
package findings

import (
	"fmt"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill/internal/core/draw"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/store"
	"nightdrill/internal/tui/paint"
)

// Load asks the shell for a run.
type Load struct{ ID string }

// Lanes asks the shell to show the run's lanes.
type Lanes struct{}

// Keys are the keys of the view.
var Keys = struct{ Up, Down, PageUp, PageDown, Older, Newer, Lanes key.Binding }{
	Up:       key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑↓", "scroll")),
	Down:     key.NewBinding(key.WithKeys("down", "j")),
	PageUp:   key.NewBinding(key.WithKeys("pgup"), key.WithHelp("page ↑↓", "scroll by a page")),
	PageDown: key.NewBinding(key.WithKeys("pgdown", "space")),
	Older:    key.NewBinding(key.WithKeys("left", "h"), key.WithHelp("←→", "older and newer runs")),
	Newer:    key.NewBinding(key.WithKeys("right", "l")),
	Lanes:    key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "its lanes")),
}

// Model is the state of the view.
type Model struct {
	w, h    int
	runs    []store.Info // the newest first
	page    *measure.Page
	loading string
	trouble string
	scroll  int
	length  int // rows of the whole page, at the last Draw
}

// New gives the view.
func New() *Model { return &Model{} }

// Resize tells the view its room.
func (m *Model) Resize(w, h int) { m.w, m.h = w, h }

// Runs tells the view which runs there are, the newest first.
func (m *Model) Runs(all []store.Info) { m.runs = all }

// Loading says that a run is being read.
func (m *Model) Loading(id string) { m.loading, m.trouble = id, "" }

// Trouble says that a run could not be read or kept.
func (m *Model) Trouble(text string) { m.loading, m.trouble = "", text }

// Show shows the findings of a run.
func (m *Model) Show(p *measure.Page) {
	m.page, m.loading, m.trouble, m.scroll = p, "", "", 0
}

// Shown gives the name of the run that is shown, or "".
func (m *Model) Shown() string {
	if m.page == nil {
		return ""
	}
	return m.page.Summary.Run
}

// Empty tells whether there is nothing to show yet.
func (m *Model) Empty() bool { return m.page == nil }

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, Keys.Up):
		m.scroll = max(m.scroll-1, 0)
	case key.Matches(k, Keys.Down):
		m.scroll = max(min(m.scroll+1, m.length-m.h), 0)
	case key.Matches(k, Keys.PageUp):
		m.scroll = max(m.scroll-m.h+2, 0)
	case key.Matches(k, Keys.PageDown):
		m.scroll = max(min(m.scroll+m.h-2, m.length-m.h), 0)
	case key.Matches(k, Keys.Older):
		return m.move(1)
	case key.Matches(k, Keys.Newer):
		return m.move(-1)
	case key.Matches(k, Keys.Lanes) && m.page != nil:
		return func() tea.Msg { return Lanes{} }
	}
	return nil
}

// place gives the place of the shown run in the list, or -1.
func (m *Model) place() int {
	for i := range m.runs {
		if m.page != nil && m.runs[i].ID == m.page.Summary.Run {
			return i
		}
	}
	return -1
}

func (m *Model) move(by int) tea.Cmd {
	at := m.place() + by
	if at < 0 || at >= len(m.runs) || m.loading != "" {
		return nil
	}
	id := m.runs[at].ID
	return func() tea.Msg { return Load{id} }
}

// Help gives the keys that work now.
func (m *Model) Help() []key.Binding {
	if m.page == nil {
		return nil
	}
	out := []key.Binding{Keys.Lanes}
	if len(m.runs) > 1 {
		out = append(out, Keys.Older)
	}
	if m.length > m.h {
		out = append(out, Keys.Up)
	}
	return out
}

// Title names the run that is shown.
func (m *Model) Title() (paint.Style, string) {
	switch {
	case m.loading != "":
		return paint.Dim, "reading run " + m.loading
	case m.page == nil:
		return paint.Dim, "no run yet"
	}
	s := m.page.Summary
	text, style := s.Drill, paint.Plain
	if at := m.place(); at >= 0 && len(m.runs) > 1 {
		text = fmt.Sprintf("%d of %d  %s", len(m.runs)-at, len(m.runs), text)
	}
	if !s.Finished {
		text, style = text+"  unfinished", paint.Bad
	}
	return style, fmt.Sprintf("%s  run %s  %.1f s", text, s.Run, s.Seconds)
}

// Draw draws the view.
func (m *Model) Draw(theme *paint.Theme) *paint.Canvas {
	out := paint.New(m.w, m.h, theme)
	switch {
	case m.trouble != "":
		out.Put(2, 1, paint.Bad, m.trouble)
		if m.page == nil {
			return out
		}
	case m.loading != "" && m.page == nil:
		out.Put(2, 1, paint.Dim, "Reading the run …")
		return out
	case m.page == nil:
		out.Put(2, 1, paint.Plain, "No run yet.")
		out.Put(2, 3, paint.Dim, "Press 4 to choose a drill and start it; its findings come up here when it is over.")
		return out
	}
	page := paint.New(m.w, m.rows(), theme)
	y := m.drawSentences(page, 0)
	y = m.drawBudgets(page, y)
	y = m.drawLatencies(page, y)
	y = m.drawWays(page, y)
	y = m.drawSources(page, y)
	y = m.drawChanges(page, y)
	m.length = y
	m.scroll = max(min(m.scroll, y-m.h), 0)
	out.Draw(0, -m.scroll, page)
	if hidden := y - m.h - m.scroll; hidden > 0 {
		out.Fill(0, m.h-1, m.w, 1)
		out.Put(2, m.h-1, paint.Dim, fmt.Sprintf("%d more lines below", hidden+1))
	}
	return out
}

// rows gives enough room for the whole page.
func (m *Model) rows() int {
	return 40 + 14*len(m.page.Functions) + 2*len(m.page.Summary.Changes) + 3*len(m.page.Sources) + len(m.page.Summary.Budgets) + 3*len(m.page.Summary.Warnings) + 3*len(m.page.Sentences)
}

func (m *Model) drawSentences(c *paint.Canvas, y int) int {
	c.Rule(y, "what this run says")
	y++
	for _, s := range m.page.Sentences {
		y = wrap(c, 2, y, m.w-2, paint.Plain, s)
	}
	return y
}

// wrap writes text over as many rows as it needs, broken between words.
func wrap(c *paint.Canvas, x, y, edge int, style paint.Style, text string) int {
	at := x
	word := []rune{}
	flush := func() {
		if len(word) == 0 {
			return
		}
		if at > x && at+len(word) > edge {
			y, at = y+1, x
		}
		at = c.PutUpTo(at, y, edge, style, string(word)) + 1
		word = word[:0]
	}
	for _, r := range text {
		if r == ' ' {
			flush()
			continue
		}
		word = append(word, r)
	}
	flush()
	return y + 1
}

// Columns of the latency table, by their right edges.
var columns = []struct {
	title string
	at    int
	wide  bool // only where there is room
}{{"n", 24, false}, {"p50", 33, false}, {"95 % between", 49, true}, {"p95", 58, false}, {"p99", 67, false}, {"max", 76, false}}

func (m *Model) drawLatencies(c *paint.Canvas, y int) int {
	c.Rule(y, "how long, in ms: from due to done; a start is from spawn to ready")
	y++
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
			c.Right(place(i), y, paint.Dim, col.title)
		}
	}
	stripAt := place(5) + 3
	scale := m.scale(max(m.w-stripAt-2, 0))
	if scale.Cells > 20 {
		m.drawScale(c, y, stripAt, scale)
	}
	y++
	for fn, name := range m.page.Functions {
		f := m.page.Summary.Functions[name]
		p := &m.page.Spreads[fn]
		c.PutUpTo(1, y, 17, paint.Bold, name)
		began := y
		for _, row := range []struct {
			what    string
			style   paint.Style
			figures measure.Figures
			of      *measure.Spread
		}{
			{"start", paint.Cold, f.Start, &p.Start},
			{"cold", paint.Cold, f.Latency.Cold, &p.Latency[engine.Cold]},
			{"first", paint.Cold, f.Latency.First, &p.Latency[engine.First]},
			{"warm", paint.Warm, f.Latency.Warm, &p.Latency[engine.Warm]},
		} {
			if row.figures.N == 0 {
				continue
			}
			if y == began && len([]rune(name)) > 10 {
				y++
			}
			c.Put(12, y, row.style, row.what)
			between := ""
			if row.figures.P50Lo != nil {
				between = measure.MillisText(row.figures.P50Lo) + " – " + measure.MillisText(row.figures.P50Hi)
			}
			for i, v := range []string{fmt.Sprint(row.figures.N), measure.MillisText(row.figures.P50), between,
				measure.MillisText(row.figures.P95), measure.MillisText(row.figures.P99), measure.MillisText(row.figures.Max)} {
				if columns[i].wide && !wide {
					continue
				}
				style := paint.Plain
				if columns[i].wide {
					style = paint.Dim
				}
				c.Right(place(i), y, style, v)
			}
			if scale.Cells > 20 {
				drawSpread(c, stripAt, y, scale, row.of, row.style, row.figures.P50)
			}
			y++
		}
		if y == began {
			c.Put(18, y, paint.Dim, "no answers")
			y++
		}
	}
	text := "– : too few samples for that percentile (p50 needs 6, p95 59, p99 299)"
	if scale.Cells > 20 {
		text += "     ┃ the median   ● where most lie   · a few"
	}
	c.Put(1, y, paint.Dim, text)
	return y + 1
}

// scale gives the common axis of all strips.
func (m *Model) scale(cells int) draw.Scale {
	lo, hi := time.Hour, time.Duration(0)
	for i := range m.page.Spreads {
		f := &m.page.Spreads[i]
		for _, s := range []*measure.Spread{&f.Start, &f.Latency[0], &f.Latency[1], &f.Latency[2]} {
			if n := len(s.Counts); n > 0 {
				lo, hi = min(lo, s.Low(0)), max(hi, s.Low(n-1))
			}
		}
	}
	return draw.NewScale(min(lo, hi), hi, cells)
}

func (m *Model) drawScale(c *paint.Canvas, y, x int, s draw.Scale) {
	at, of := s.Ticks()
	for i := range at {
		text := of[i].String()
		if i == len(at)-1 {
			c.Right(x+s.Cells, y, paint.Dim, text+"╷")
			continue
		}
		c.Put(x+at[i], y, paint.Dim, "╷"+text)
	}
}

var dots = []rune("·∘○●")

// drawSpread draws where the durations of a population lie: more of them, a
// fuller mark; a bar marks the median.
func drawSpread(c *paint.Canvas, x, y int, s draw.Scale, of *measure.Spread, style paint.Style, p50 *float64) {
	cells := make([]int, s.Cells)
	for i, n := range of.Counts {
		cells[s.At(of.Low(i))] += n
	}
	most := 1
	for _, n := range cells {
		most = max(most, n)
	}
	for i, n := range cells {
		switch {
		case n == 0:
		case n == most:
			c.Set(x+i, y, style, dots[3])
		default:
			c.Set(x+i, y, style, dots[min(n*4/most, 3)])
		}
	}
	if p50 != nil {
		c.Set(x+s.At(time.Duration(*p50*1e6)), y, style, '┃')
	}
}

func (m *Model) drawSources(c *paint.Canvas, y int) int {
	c.Rule(y, "what became of the events")
	y++
	titles := []string{"arrived", "done", "failed", "dead letter", "rejected", "other"}
	edges := []int{28, 41, 54, 67, 80, 93}
	if m.w < 100 {
		edges = []int{27, 35, 44, 57, 68, 76}
	}
	for i, t := range titles {
		c.Right(edges[i], y, paint.Dim, t)
	}
	y++
	for _, name := range m.page.Sources {
		n := m.page.Summary.Sources[name]
		c.PutUpTo(1, y, 23, paint.Plain, name)
		for k, v := range []int{n.Arrived, n.Done, n.Failed, n.DeadLettered, n.Rejected, n.Expired + n.Skipped + n.Unmatched + n.Abandoned} {
			style := paint.Plain
			switch {
			case v == 0:
				style = paint.Dim
			case k >= 2:
				style = paint.Bad
			}
			c.Right(edges[k], y, style, fmt.Sprint(v))
		}
		y++
	}
	for _, name := range m.page.Functions {
		f := m.page.Summary.Functions[name]
		for i, line := range f.Lines() {
			if i == 0 {
				y = wrap(c, 1, y, m.w-2, paint.Plain, name+": "+line)
				continue
			}
			y = wrap(c, 3, y, m.w-2, paint.Dim, line)
		}
	}
	return y
}

// drawWays sets the ways to start beside each other.
func (m *Model) drawWays(c *paint.Canvas, y int) int {
	ways := m.page.Summary.Ways
	if len(ways) == 0 {
		return y
	}
	c.Rule(y, "ways to start: medians, in ms")
	y++
	longest := 0
	for i := range ways {
		longest = max(longest, len(ways[i].Function))
	}
	name := min(longest, max(m.w/4, 12))
	edges := []int{name + 5, name + 15, name + 24, name + 40, name + 54, name + 63}
	for i, title := range []string{"n", "prepared", "start", "95 % between", "first answer", "both"} {
		c.Right(edges[i]+2, y, paint.Dim, title)
	}
	y++
	for i := range ways {
		w := &ways[i]
		c.PutUpTo(1, y, name+2, paint.Bold, w.Function)
		for k, v := range []string{fmt.Sprint(w.Whole.N), measure.MillisText(w.Prepare), measure.MillisText(w.Start.P50), w.Start.Between(), measure.MillisText(w.Answer.P50), measure.MillisText(w.Whole.P50)} {
			style := paint.Cold
			if k == 0 || k == 3 {
				style = paint.Dim
			}
			c.Right(edges[k]+2, y, style, v)
		}
		if at := edges[5] + 5; m.w-at > 40 {
			y = wrap(c, at, y, m.w-1, paint.Dim, w.Words)
			continue
		}
		y = wrap(c, 3, y+1, m.w-2, paint.Dim, w.Words)
	}
	return y
}

// drawChanges says what was changed while the drill ran.
func (m *Model) drawChanges(c *paint.Canvas, y int) int {
	if len(m.page.Summary.Changes) == 0 {
		return y
	}
	c.Rule(y, "changed while it ran")
	y++
	for _, x := range m.page.Summary.Changes {
		y = wrap(c, 1, y, m.w-2, paint.Plain, x.Words(m.page.Functions))
	}
	return y
}

func (m *Model) drawBudgets(c *paint.Canvas, y int) int {
	if len(m.page.Summary.Budgets) > 0 {
		c.Rule(y, "budgets")
		y++
	}
	for _, v := range m.page.Summary.Budgets {
		style, mark := paint.Bad, "✗ "
		if v.Held {
			style, mark = paint.Good, "✓ "
		}
		x := c.Put(1, y, style, mark)
		c.Put(x, y, paint.Plain, measure.VerdictText(v))
		y++
	}
	if len(m.page.Summary.Warnings) > 0 {
		c.Rule(y, "to keep in mind")
		y++
	}
	for _, text := range m.page.Summary.Warnings {
		c.Put(1, y, paint.Bad, "!")
		y = wrap(c, 3, y, m.w-2, paint.Plain, text)
	}
	return y
}
