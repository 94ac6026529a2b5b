package drillview

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
)

// logs is what the functions of the run wrote, below the lanes.
type logs struct {
	open    bool
	lines   []record.Line
	loading bool
	trouble error
	search  string
	scroll  int // rows from where the cursor is, or from the end
	found   struct {
		n                int // of lines that were looked at
		instance, search string
		lines            []record.Line
	}
}

// linesMsg has the log of a run that was read.
type linesMsg struct {
	run string
	all []record.Line
	err error
}

// ShowsLines reports whether lines of the log are shown, so that Lines is wanted.
func (m *Model) ShowsLines() bool { return m.logs.open || m.details }

// Lines sets the log so far of the drill in progress.
func (m *Model) Lines(all []record.Line) {
	if m.live {
		m.logs.lines = all
	}
}

// toggleLogs opens or closes the log, and reads that of a run that is over.
func (m *Model) toggleLogs() tea.Cmd {
	if m.logs.open = !m.logs.open; !m.logs.open {
		return nil
	}
	return m.readLog()
}

// readLog reads the log of a run that is over, unless it was read.
func (m *Model) readLog() tea.Cmd {
	if m.live || m.kept == nil || m.logs.lines != nil || m.logs.loading {
		return nil
	}
	if m.chart.Run().Simulated != "" {
		return nil
	}
	run, kept := m.Shown(), m.kept
	m.logs.loading = true
	return func() tea.Msg {
		all, err := kept.Lines(run)
		return linesMsg{run, all, err}
	}
}

// askSearch asks which lines of the log are shown.
func (m *Model) askSearch() tea.Cmd {
	before := m.logs.search
	return func() tea.Msg {
		return msg.Ask{Title: "Only log lines with this text:", Text: before, Done: func(content string) tea.Cmd {
			m.logs.search, m.logs.scroll = strings.TrimSpace(content), 0
			return nil
		}}
	}
}

// instanceName returns the name of the instance under the cursor, or "".
func (m *Model) instanceName() string {
	lanes := m.chart.Lanes()
	if m.lane < 0 || m.lane >= len(lanes) {
		return ""
	}
	in := &lanes[m.lane].Instance
	return fmt.Sprintf("%s-%d", m.chart.Run().Functions[in.Function].Name, in.Number)
}

// matching returns the lines of the instance under the cursor, or of all, that have what is searched for.
func (m *Model) matching() []record.Line {
	l, name := &m.logs, m.instanceName()
	f := &l.found
	if f.n > len(l.lines) || f.instance != name || f.search != l.search {
		f.n, f.instance, f.search, f.lines = 0, name, l.search, nil
	}
	want := strings.ToLower(l.search)
	for ; f.n < len(l.lines); f.n++ {
		x := &l.lines[f.n]
		if (name == "" || x.Instance == name) && (want == "" || strings.Contains(strings.ToLower(x.Text), want)) {
			f.lines = append(f.lines, *x)
		}
	}
	return f.lines
}

// lineLag is how long after a reply lines still count as its invocation's.
const lineLag = 50 * time.Millisecond

// during returns from when to when an instance's lines are of the invocation under the cursor.
func (m *Model) during() (from, to clock.Time, ok bool) {
	v := m.under()
	if v == nil {
		return 0, 0, false
	}
	to = v.Done.Add(lineLag)
	if l := m.chart.Lanes()[m.lane]; m.call+1 < len(l.Invocations) && l.Slots == 1 {
		to = min(to, m.chart.Run().Invocations[l.Invocations[m.call+1]].Assigned)
	}
	return v.Assigned, to, true
}

// mostOwnLines bounds the log lines that an opened invocation shows.
const mostOwnLines = 40

// ownLines returns the log lines of the invocation under the cursor.
func (m *Model) ownLines() (out []line) {
	from, to, ok := m.during()
	if !ok || m.logs.loading || m.logs.trouble != nil {
		return nil
	}
	name := m.instanceName()
	for i := range m.logs.lines {
		x := &m.logs.lines[i]
		if x.Instance != name || x.At < from || x.At >= to {
			continue
		}
		if out = append(out, line{value: fmt.Sprintf("+ %-12s %s", figure.Duration(x.At.Sub(from)),
			text.Harmless(x.Text))}); len(out) == 1 {
			out[0].name = "log"
		}
		if len(out) == mostOwnLines {
			break
		}
	}
	return out
}

// drawLogs draws the log of the instance under the cursor, or of all; the lines of the invocation under
// the cursor are marked.
func (m *Model) drawLogs(c *canvas.Canvas, y, rows int) {
	l := &m.logs
	name, lines := m.instanceName(), m.matching()
	title := "Logs of all instances; choose a lane for those of one"
	if name != "" {
		title = "Logs of " + name
	}
	if l.search != "" {
		title += fmt.Sprintf(", with “%s”", text.Harmless(l.search))
	}
	c.Rule(y, title)
	y, rows = y+1, rows-1
	switch {
	case l.trouble != nil:
		c.PutUpTo(2, y, m.w-1, canvas.Bad, text.Harmless(l.trouble.Error()))
		return
	case l.loading:
		c.Put(2, y, canvas.Dim, "Reading the log …")
		return
	case len(lines) == 0:
		c.PutUpTo(2, y, m.w-1, canvas.Dim, m.noLines(name))
		return
	}
	from, to, marked := m.during()
	first := len(lines) - rows // the end, of a drill in progress
	if !m.live {
		first = 0
	}
	if marked {
		first = 0
		for first < len(lines) && lines[first].At < from {
			first++
		}
		first -= 2
	}
	start := min(first+l.scroll, len(lines)-rows)
	if start = max(start, 0); l.scroll != 0 {
		l.scroll = start - max(min(first, len(lines)-rows), 0)
	}
	widest := 0
	shown := lines[start:min(start+rows, len(lines))]
	for i := range shown {
		widest = max(widest, min(ansi.StringWidth(shown[i].Instance), 24))
	}
	for i := range shown {
		x := &shown[i]
		style, sign := canvas.LineMark(x.Kind)
		if marked && x.At >= from && x.At < to {
			c.Set(0, y+i, canvas.Warm, '▌')
		}
		c.Right(12, y+i, canvas.Dim, fmt.Sprintf("%.3f s", x.At.Seconds()))
		at := 14
		if name == "" {
			c.PutUpTo(at, y+i, at+widest, canvas.Field, x.Instance)
			at += widest + 2
		}
		c.PutUpTo(at, y+i, m.w-1, style, sign+text.Harmless(x.Text))
	}
	if below := len(lines) - start - len(shown); below > 0 {
		c.Right(m.w-2, y-1, canvas.Dim, fmt.Sprintf(" %d more below ", below))
	} else if start > 0 {
		c.Right(m.w-2, y-1, canvas.Dim, fmt.Sprintf(" %d more above ", start))
	}
}

// noLines returns why there is nothing to show.
func (m *Model) noLines(name string) string {
	switch {
	case m.logs.search != "":
		return "No line has this text. / searches for another."
	case name != "" && len(m.logs.lines) > 0:
		return name + " wrote nothing."
	case m.live:
		return "No log output yet."
	}
	if r := m.chart.Run(); r != nil && r.Simulated != "" {
		return "This run is simulated: nothing ran, and nothing was written."
	}
	return "No log is kept with this run: its functions wrote nothing, or it is from an earlier version."
}
