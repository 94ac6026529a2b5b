package findings

import (
	"cmp"
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/core/trend"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
	"nightdrill.dev/internal/tui/scroll"
)

// WriteTrend requests a file of a drill's trends.
type WriteTrend struct {
	Path   string
	Trends *trend.Trends
}

// trends are the page of a drill's figures over commits.
type trends struct {
	of       *trend.Trends
	branches []string // those of the drill's runs, "" for all first
	at       int      // among them
	scroll   scroll.Page
}

// trendKeys are the keys of the page of trends.
var trendKeys = struct{ Branch, Write, Back key.Binding }{
	Branch: pane.Bind("of another branch", "b"),
	Write:  pane.Bind("write SVG or PDF", "x"),
	Back:   key.NewBinding(key.WithKeys("esc", "escape", "t"), key.WithHelp("esc", "back to the run")),
}

// openTrends shows the trends of the shown run's drill.
func (m *Model) openTrends() {
	t := &trends{branches: []string{""}}
	drill := m.whole.Summary.Drill
	for i := range m.runs {
		if b := m.runs[i].Branch; m.runs[i].Drill == drill && b != "" && !slices.Contains(t.branches, b) {
			t.branches = append(t.branches, b)
		}
	}
	m.trends = t
	t.of = kept.Trend(m.runs, drill, "")
}

func (m *Model) trendKey(k tea.KeyPressMsg) tea.Cmd {
	t := m.trends
	switch {
	case key.Matches(k, trendKeys.Back):
		m.trends = nil
	case key.Matches(k, trendKeys.Branch) && len(t.branches) > 1:
		t.at = (t.at + 1) % len(t.branches)
		t.of = kept.Trend(m.runs, t.of.Drill, t.branches[t.at])
	case key.Matches(k, trendKeys.Write):
		return func() tea.Msg {
			return msg.Ask{Title: "Write the trends to (.svg or .pdf)", Text: t.of.Drill + "-trend.svg",
				Done: func(path string) tea.Cmd {
					return func() tea.Msg { return WriteTrend{path, t.of} }
				}}
		}
	default:
		t.scroll.Key(k)
	}
	return nil
}

func (m *Model) trendHelp() []key.Binding {
	out := []key.Binding{trendKeys.Write}
	if len(m.trends.branches) > 1 {
		out = append(out, trendKeys.Branch)
	}
	if m.trends.scroll.Long() {
		out = append(out, scroll.Keys.Up)
	}
	return append(out, trendKeys.Back)
}

// rise returns the height of each figure's drawing, in rows: more where there is room.
func (t *trends) rise(room int) int {
	rows := room - 3 - 2*len(t.of.Sentences)
	return max(min(rows/max(len(t.of.Series), 1)-4, 9), 4)
}

func (m *Model) drawTrends(c *canvas.Canvas, theme *canvas.Theme) {
	t, rise := m.trends.of, m.trends.rise(m.h)
	rows := 4 + len(t.Sentences)*3
	for i := range t.Series {
		rows += rise + 3 + min(len(t.Series[i].Changes), 1)
	}
	page := canvas.New(m.w, rows, theme)
	of := "all branches"
	if t.Branch != "" {
		of = "branch " + t.Branch
	}
	page.Rule(0, fmt.Sprintf("trends of %s over commits, %s, %s", t.Drill, of, text.Plural(t.Runs, "run")))
	y := 1
	for _, s := range t.Sentences {
		y = canvas.Flow(page, 1, y, m.w-1, canvas.Bold, s)
	}
	y = canvas.Flow(page, 1, y, m.w-1, canvas.Dim, "One dot per commit, a line at the median between changes. "+
		t.Machine)
	for i := range t.Series {
		y = m.drawSeries(page, &t.Series[i], y+1, rise)
	}
	m.trends.scroll.Fit(y, m.h)
	m.trends.scroll.Draw(c, 0, page)
	m.trends.scroll.Rest(c)
}

// drawSeries draws a figure over commits, and returns the row below it.
func (m *Model) drawSeries(c *canvas.Canvas, s *trend.Series, y, rise int) int {
	style := canvas.Cold
	if s.Warm() {
		style = canvas.Warm
	}
	const axis, words = left + 10, 12
	cells := max(m.w-axis-words-2, 8)
	_, high := s.Range()
	scale := draw.Linear(high)
	c.PutUpTo(1, y, left-1, canvas.Bold, s.Function)
	c.PutUpTo(1, y+1, left-1, style, s.Figure)
	c.PutUpTo(1, y+2, left-1, canvas.Dim, text.Plural(len(s.Points), "commit"))
	c.Right(axis-1, y, canvas.Dim, draw.ShortMillis(scale.Hi))
	c.Right(axis-1, y+rise-1, canvas.Dim, "0")
	commits := m.trends.of.Commits
	column := func(i float64) int { return int((i + 0.5) / float64(commits) * float64(2*cells)) }
	dots := canvas.NewDots(cells, rise)
	s.Levels(commits, func(from, to int, level float64) {
		for x := column(float64(from) - 0.5); x < column(float64(to)-0.5); x++ {
			dots.Set(x, dots.Rise(scale.At(level)), canvas.Dim)
		}
	})
	for i := range s.Points {
		x, top := column(float64(s.Points[i].Place)), dots.Rise(scale.At(s.Points[i].Value))
		for _, d := range [4][2]int{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
			dots.Set(x+d[0], min(top+d[1], 4*rise-1), style)
		}
	}
	dots.Draw(c, axis, y)
	last := s.Latest()
	c.PutUpTo(axis+cells+1, y+dots.Rise(scale.At(last))/4, m.w, canvas.Plain, draw.ShortMillis(last))
	y += rise
	if len(s.Changes) > 0 {
		free := axis
		for _, change := range s.Changes {
			mark := "▲ " + cmp.Or(change.Commit, s.Points[change.At].Run)
			x := axis + column(float64(s.Points[change.At].Place)-0.5)/2
			wide := ansi.StringWidth(mark)
			if x = min(x, m.w-wide-1); x >= free {
				c.PutUpTo(x, y, m.w, canvas.Bad, mark)
				free = x + wide + 1
			}
		}
		y++
	}
	form := "2 Jan 2006"
	first, end := m.trends.of.From.Local(), m.trends.of.To.Local()
	if first.Format(form) == end.Format(form) {
		form += " 15:04"
	}
	c.PutUpTo(axis, y, m.w, canvas.Dim, first.Format(form))
	if commits > 1 && cells > 38 {
		c.Right(axis+cells, y, canvas.Dim, end.Format(form))
	}
	return y + 1
}
