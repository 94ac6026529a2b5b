package findings

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/scroll"
)

// point is a place in a drawing that stands for some invocations.
type point struct {
	x, y, w int
	words   string        // what it stands for
	pick    record.Filter // the invocations behind it
}

// add enters a point of the page that is being drawn.
func (m *Model) add(x, y, w int, pick record.Filter, format string, args ...any) {
	m.points = append(m.points, point{x, y, w, fmt.Sprintf(format, args...), pick})
}

// under returns the point under the cursor, or nil.
func (m *Model) under() *point {
	if m.cursor < 0 || m.cursor >= len(m.points) {
		return nil
	}
	return &m.points[m.cursor]
}

// firstPoint moves the cursor to the first visible point.
func (m *Model) firstPoint() {
	for i := range m.points {
		if m.points[i].y >= m.scroll.At {
			m.cursor = i
			return
		}
	}
	if len(m.points) > 0 {
		m.cursor = 0
	}
}

func (m *Model) cursorKey(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, Keys.Escape):
		m.cursor = -1
	case key.Matches(k, Keys.Older):
		m.step(-1, 0)
	case key.Matches(k, Keys.Newer):
		m.step(1, 0)
	case key.Matches(k, scroll.Keys.Up):
		m.step(0, -1)
	case key.Matches(k, scroll.Keys.Down):
		m.step(0, 1)
	case key.Matches(k, scroll.Keys.PageUp):
		for range m.scroll.Room / 2 {
			m.step(0, -1)
		}
	case key.Matches(k, scroll.Keys.PageDown):
		for range m.scroll.Room / 2 {
			m.step(0, 1)
		}
	case key.Matches(k, Keys.Alone):
		if p := m.under(); p != nil {
			return m.apply(m.filter.And(p.pick))
		}
	case key.Matches(k, Keys.Open):
		if p := m.under(); p != nil {
			pick, words := m.filter.And(p.pick), p.words
			return m.withRun(func() tea.Cmd {
				m.openCalls(pick, words)
				return nil
			})
		}
	}
	return nil
}

// step moves the cursor to the nearest point in a direction: along its row, or to the
// next row that has any, where it is nearest.
func (m *Model) step(dx, dy int) {
	p := m.under()
	if p == nil {
		return
	}
	best, least := -1, 1<<30
	for i := range m.points {
		q := &m.points[i]
		far := (q.x - p.x) * dx
		if dy != 0 {
			if far = (q.y - p.y) * dy * 1000; far > 0 {
				far += max(q.x-p.x, p.x-q.x)
			}
		} else if q.y != p.y {
			continue
		}
		if far > 0 && far < least {
			best, least = i, far
		}
	}
	if best >= 0 {
		m.cursor = best
	}
}

// calls is the list of the invocations behind a point.
type calls struct {
	words  string
	pick   record.Filter
	points []record.Point // those of all that have what is wanted
	all    []record.Point
	want   string
	n      int // in all
	at     int
	scroll int
}

// mostCalls bounds the list.
const mostCalls = 500

func (m *Model) openCalls(pick record.Filter, words string) {
	c := &calls{words: words, pick: pick}
	c.all, c.n = m.run.Points(pick, mostCalls)
	c.points = c.all
	m.calls = c
}

// label returns which event a point is, and which payload.
func (m *Model) label(p *record.Point) string {
	of := &m.run.Payloads[m.run.Arrivals[p.Event].Payload]
	text := fmt.Sprintf("%s#%d %s", of.Set, of.N, of.Label)
	if p.Mates > 0 {
		text += fmt.Sprintf(" (batch of %d)", p.Mates+1)
	}
	if p.Attempts > 1 {
		text += fmt.Sprintf(" (attempt %d)", p.Attempts)
	}
	v := &m.run.Invocations[p.Invocation]
	if stood := m.run.Stood(v.Assigned, v.Done); stood > 0 {
		text += fmt.Sprintf(" (driver stalled for %s)", figure.Duration(stood))
	}
	return text
}

// filterCalls leaves those invocations in the list that have a text.
func (m *Model) filterCalls(want string) {
	c := m.calls
	if c == nil {
		return
	}
	c.want, c.at, c.scroll, c.points = strings.TrimSpace(want), 0, 0, nil
	for i := range c.all {
		p := &c.all[i]
		v := &m.run.Invocations[p.Invocation]
		in := &m.run.Instances[v.Instance]
		words := fmt.Sprintf("%s %s %d %s %s-%d", m.label(p), v.Class, v.Status, v.Result,
			m.run.Functions[in.Function].Name, in.Number)
		if strings.Contains(strings.ToLower(words), strings.ToLower(c.want)) {
			c.points = append(c.points, *p)
		}
	}
}

func (m *Model) callsKey(k tea.KeyPressMsg) tea.Cmd {
	c := m.calls
	switch {
	case key.Matches(k, Keys.Escape) && c.want != "":
		m.filterCalls("")
	case key.Matches(k, Keys.Escape):
		m.calls = nil
	case key.Matches(k, scroll.Keys.Up):
		c.at = max(c.at-1, 0)
	case key.Matches(k, scroll.Keys.Down):
		c.at = max(min(c.at+1, len(c.points)-1), 0)
	case key.Matches(k, scroll.Keys.PageUp):
		c.at = max(c.at-m.h/2, 0)
	case key.Matches(k, scroll.Keys.PageDown):
		c.at = max(min(c.at+m.h/2, len(c.points)-1), 0)
	case key.Matches(k, Keys.Filter):
		return func() tea.Msg {
			return msg.Ask{Title: "Only invocations with this in event, status, class or instance:", Text: c.want,
				Done: func(want string) tea.Cmd { m.filterCalls(want); return nil }}
		}
	case key.Matches(k, Keys.Alone):
		return m.apply(c.pick)
	case key.Matches(k, Keys.Open) && c.at < len(c.points):
		open := Open{m.run.ID, m.run.Invocations[c.points[c.at].Invocation].ID}
		return func() tea.Msg { return open }
	}
	return nil
}

// drawCalls draws the list over the page.
func (m *Model) drawCalls(out *canvas.Canvas) {
	c := m.calls
	w, h := min(m.w-2, 140), min(max(len(c.points), 1)+4, m.h-2)
	x, y := (m.w-w)/2, max((m.h-h)/2, 0)
	title := c.words
	if c.want != "" {
		title += fmt.Sprintf(", with “%s”", text.Harmless(c.want))
	}
	out.Frame(x, y, w, h, title)
	if len(c.points) == 0 && c.want != "" {
		out.PutUpTo(x+2, y+1, x+w-2, canvas.Plain, "No invocation has that. / asks again, esc lists all.")
		return
	}
	if len(c.points) == 0 {
		why := "No invocations: rejected events, and those that were never dispatched, have none."
		if c.pick.StartTo > 0 {
			why = "The instances that started so stopped before they had an invocation."
		}
		out.PutUpTo(x+2, y+1, x+w-2, canvas.Plain, why)
		return
	}
	rows := h - 4
	c.scroll = min(max(c.scroll, c.at-rows+1), c.at)
	edges := []int{11, 20, 28, 41, 51, 64, 77}
	for i, t := range []string{"done at, s", "class", "status", "latency, ms", "wait, ms", "service, ms", "instance"} {
		out.Right(x+2+edges[i], y+1, canvas.Dim, t)
	}
	out.Put(x+82, y+1, canvas.Dim, "event")
	for i := range rows {
		k := c.scroll + i
		if k >= len(c.points) {
			break
		}
		p := &c.points[k]
		v := &m.run.Invocations[p.Invocation]
		style := map[bool]canvas.Style{true: canvas.Warm, false: canvas.Cold}[v.Class.String() == "warm"]
		status := v.Result.String()
		if v.Status > 0 {
			status = fmt.Sprint(v.Status)
		}
		if v.Status == 0 || v.Status >= 400 {
			style = canvas.Bad
		}
		instance := m.run.Functions[v.Function].Name
		if int(v.Instance) < len(m.run.Instances) {
			instance = fmt.Sprintf("%s-%d", instance, m.run.Instances[v.Instance].Number)
		}
		class := v.Class.String()
		for j, text := range []string{fmt.Sprintf("%.3f", v.Done.Seconds()), class, status, millis(p.Latency),
			millis(p.Wait), millis(p.Service), instance} {
			out.Right(x+2+edges[j], y+2+i, style, text)
		}
		out.PutUpTo(x+82, y+2+i, x+w-2, canvas.Plain, text.Harmless(m.label(p)))
		if k == c.at {
			out.Restyle(x+1, y+2+i, w-2, canvas.Chosen)
		}
	}
	text := fmt.Sprintf("%d in total, longest first; wait is from due until sent", c.n)
	if c.n > len(c.points) {
		text = fmt.Sprintf("%d in total; these are the %d longest", c.n, len(c.points))
	}
	out.Put(x+2, y+h-2, canvas.Dim, text)
}

// millis writes a duration in milliseconds, without the unit.
func millis(d time.Duration) string { return figure.Millis(new(figure.Milliseconds(d))) }
