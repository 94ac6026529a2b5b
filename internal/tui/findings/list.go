package findings

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/scroll"
)

// list is the list of past runs, over the page.
type list struct {
	at, scroll int
	marked     map[string]bool // to be compared, by their IDs
	want       string          // what a run must have in its names or notes to be listed
}

// listed returns the runs of the list.
func (m *Model) listed() []store.Info {
	if m.list.want == "" {
		return m.runs
	}
	var out []store.Info
	for _, r := range m.runs {
		if strings.Contains(strings.ToLower(r.Name+" "+r.When(time.Now())+" "+r.Drill+" "+r.ID+" "+r.Note),
			strings.ToLower(m.list.want)) {
			out = append(out, r)
		}
	}
	return out
}

// change does something to a run, and has the list read again. It is the run that was
// under the cursor when it was requested: by now the list may be another, or closed.
func change(info store.Info, do func(store.Info) error, then ...tea.Cmd) tea.Cmd {
	return func() tea.Msg {
		if err := do(info); err != nil {
			return msg.Failed(err)
		}
		return tea.BatchMsg(append(then, func() tea.Msg { return Changed{} }))
	}
}

func (m *Model) listKey(k tea.KeyPressMsg) tea.Cmd {
	l, runs := m.list, m.listed()
	switch {
	case key.Matches(k, Keys.Escape) && l.want != "":
		l.want, l.at = "", 0
		return nil
	case key.Matches(k, Keys.Escape), key.Matches(k, Keys.Runs):
		m.list = nil
		return nil
	case key.Matches(k, Keys.Filter) && len(m.runs) > 0:
		return func() tea.Msg {
			return msg.Ask{Title: "Only runs with this in name, drill, time or note:", Text: l.want,
				Done: func(want string) tea.Cmd {
					l.want, l.at = strings.TrimSpace(want), 0
					return nil
				}}
		}
	case k.String() == "u":
		i, ok := m.store.BringBack()
		if !ok {
			return msg.Complain("No run was deleted since the program was started.")
		}
		return tea.Batch(msg.Say("%s is back.", i.Label(time.Now())), func() tea.Msg { return Changed{} })
	case len(runs) == 0:
		return nil
	case key.Matches(k, scroll.Keys.Up):
		l.at = max(l.at-1, 0)
		return nil
	case key.Matches(k, scroll.Keys.Down):
		l.at = min(l.at+1, len(runs)-1)
		return nil
	case key.Matches(k, scroll.Keys.PageUp):
		l.at = max(l.at-m.h/2, 0)
		return nil
	}
	info := runs[l.at]
	ask := func(title, text string, done func(string) tea.Cmd) tea.Cmd {
		return func() tea.Msg { return msg.Ask{Title: title, Text: text, Done: done} }
	}
	switch k.String() {
	case "pgdown":
		l.at = min(l.at+m.h/2, len(runs)-1)
	case "enter":
		m.list = nil
		return func() tea.Msg { return Load{info.ID} }
	case "space", " ":
		if l.marked[info.ID] {
			delete(l.marked, info.ID)
		} else {
			l.marked[info.ID] = true
		}
		l.at = min(l.at+1, len(runs)-1)
	case "c":
		return m.compareMarked(info)
	case "n":
		return ask("Name of the run (named runs are always kept):", info.Name, func(text string) tea.Cmd {
			return change(info, func(i store.Info) error { return m.store.Name(i.ID, text) })
		})
	case "o":
		return ask("Note:", info.Note, func(text string) tea.Cmd {
			return change(info, func(i store.Info) error { return m.store.Note(i.ID, text) })
		})
	case "p":
		return change(info, func(i store.Info) error { return m.store.Pin(i.ID, !i.Pinned) })
	case "y":
		return msg.Copy("the run's name", info.ID)
	case "x":
		return m.askExport(info.ID)
	case "D":
		name := info.Label(time.Now())
		return change(info, func(i store.Info) error { return m.store.PutAside(i) }, msg.Say("%s deleted; u brings it "+
			"back, until the program is quit.", name))
	}
	return nil
}

// compareMarked compares the marked runs, the older first; one alone with the run under
// the cursor, none with the run that is shown.
func (m *Model) compareMarked(under store.Info) tea.Cmd {
	var ids []string
	for i := len(m.runs) - 1; i >= 0; i-- { // the oldest first
		id := m.runs[i].ID
		if m.list.marked[id] || len(m.list.marked) < 2 && id == under.ID || len(m.list.marked) == 0 && id == m.Shown() {
			ids = append(ids, id)
		}
	}
	if len(ids) != 2 {
		return func() tea.Msg {
			return msg.Note{Text: fmt.Sprintf("compare needs two marked runs, and %d are marked; space marks a run",
				len(ids)), Bad: true}
		}
	}
	m.list = nil
	return func() tea.Msg { return Compare{ids[0], ids[1]} }
}

// trendOf is the functions that the trend is drawn of.
func trendOf(runs []store.Info, drill string) (name string) {
	times := map[string]int{}
	best := 0
	for i := range runs {
		if runs[i].Headline == nil || runs[i].Drill != drill {
			continue
		}
		for _, f := range runs[i].Headline.Functions {
			if times[f.Name]++; times[f.Name] > best && f.Warm != nil {
				best, name = times[f.Name], f.Name
			}
		}
	}
	return name
}

// drawList draws the list of past runs, the newest first, with the main figures of
// their drill's function as a trend.
func (m *Model) drawList(c *canvas.Canvas) {
	l, runs := m.list, m.listed()
	title := "Past runs, newest first"
	if l.want != "" {
		title += fmt.Sprintf(": %d of %d with “%s”", len(runs), len(m.runs), text.Harmless(l.want))
	}
	c.Rule(0, title)
	switch {
	case len(m.runs) == 0:
		c.Put(2, 2, canvas.Dim, "No runs yet.")
		return
	case len(runs) == 0:
		c.Put(2, 2, canvas.Dim, "No run has that in its name, drill, time or note. / asks again, esc lists all.")
		return
	}
	l.at = min(l.at, len(runs)-1)
	under := runs[l.at]
	name := trendOf(m.runs, under.Drill)
	wide := m.w >= 120
	rows := m.h - 6
	l.scroll = min(max(l.scroll, l.at-rows+1), l.at)
	edges := []int{53, 61, 71, 80}
	titles := []string{"events", "failed", "rejected", "budgets"}
	if wide {
		edges, titles = append(edges, 91, 102, 113), append(titles, "cold p50", "warm p50", "warm p95")
		c.PutUpTo(84, 1, m.w, canvas.Dim, "of "+name+", ms")
	}
	c.Put(4, 2, canvas.Dim, "run")
	c.Put(24, 2, canvas.Dim, "drill")
	for i, t := range titles {
		c.Right(edges[i], 2, canvas.Dim, t)
	}
	for i := range rows {
		k := l.scroll + i
		if k >= len(runs) {
			break
		}
		m.drawRun(c, 3+i, &runs[k], edges, name, wide)
		if k == l.at {
			c.Restyle(0, 3+i, m.w, canvas.Chosen)
		}
	}
	m.drawTrend(c, m.h-3, under.Drill, name)
}

func (m *Model) drawRun(c *canvas.Canvas, y int, r *store.Info, edges []int, name string, wide bool) {
	if m.list.marked[r.ID] {
		c.Set(1, y, canvas.Warm, '▸')
	}
	if r.Pinned {
		c.Set(2, y, canvas.Warm, '▪')
	}
	style := canvas.Plain
	if r.Name != "" {
		style = canvas.Bold
	}
	called := r.Name
	if called == "" {
		called = r.When(time.Now())
	}
	c.PutUpTo(4, y, 23, style, text.Harmless(called))
	c.PutUpTo(24, y, 48, canvas.Dim, r.Drill)
	words := ""
	if !r.Finished {
		words = "unfinished"
	}
	if r.Note != "" {
		words += "  " + text.Harmless(r.Note)
	}
	if mf := r.Headline; mf != nil {
		values := []string{fmt.Sprint(mf.Arrived), fmt.Sprint(mf.Lost), fmt.Sprint(mf.Rejected), "–"}
		if mf.Held+mf.Missed > 0 {
			values[3] = fmt.Sprintf("%d of %d", mf.Held, mf.Held+mf.Missed)
		}
		if wide {
			values = append(values, "–", "–", "–")
			for _, f := range mf.Functions {
				if f.Name == name {
					values[4], values[5], values[6] = figure.Millis(f.Cold), figure.Millis(f.Warm),
						figure.Millis(f.P95)
				}
			}
		}
		for i, v := range values {
			style := canvas.Plain
			if i == 3 && mf.Missed > 0 {
				style = canvas.Bad
			}
			c.Right(edges[i], y, style, v)
		}
	}
	if wide {
		c.PutUpTo(116, y, m.w-1, canvas.Dim, words)
	}
}

// drawTrend draws a figure over the runs of a drill, the oldest first.
func (m *Model) drawTrend(c *canvas.Canvas, y int, drill, name string) {
	for row, of := range []struct {
		what  string
		style canvas.Style
		value func(report.HeadlineOf) *float64
	}{{"cold p50", canvas.Cold, func(f report.HeadlineOf) *float64 { return f.Cold }},
		{"warm p50", canvas.Warm, func(f report.HeadlineOf) *float64 { return f.Warm }}} {
		var values []float64
		for i := len(m.runs) - 1; i >= 0; i-- {
			if r := &m.runs[i]; r.Headline != nil && r.Drill == drill {
				for _, f := range r.Headline.Functions {
					if v := of.value(f); f.Name == name && v != nil {
						values = append(values, *v)
					}
				}
			}
		}
		if len(values) == 0 {
			continue
		}
		if most := max(m.w-84, 10); len(values) > most {
			values = values[len(values)-most:]
		}
		top := 0.0
		for _, v := range values {
			top = max(top, v)
		}
		x := c.PutUpTo(1, y+row, 64, canvas.Dim, fmt.Sprintf("%s of %s over the runs of %s", of.what, name, drill)) + 1
		for _, v := range values {
			c.Set(x, y+row, of.style, draw.Bar(max(int(v/top*8), 1), 8))
			x++
		}
		c.PutUpTo(x+1, y+row, m.w, canvas.Dim, figure.Millis(&values[len(values)-1])+" ms latest")
	}
}
