// Package findings is the view of what a run says: the answer in sentences, then
// drawings, then tables. Every point of a drawing opens the invocations behind it, and
// a filter holds for all of them at once. Past runs stand in a list of their own.
package findings

import (
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
	"nightdrill.dev/internal/tui/scroll"
)

// Messages to the shell.
type (
	// Load requests a run.
	Load struct{ ID string }
	// Lanes requests the run's lanes.
	Lanes struct{}
	// Open requests an invocation in the run's lanes.
	Open struct {
		Run        string
		Invocation uint64
	}
	// Changed means that the list of runs has changed.
	Changed struct{}
	// Compare asks to compare two runs.
	Compare struct{ First, Second string }
	// Export requests files of a run in a folder.
	Export struct{ ID, Dir string }
	// Replay asks to carry a run out again.
	Replay struct{ ID string }
	// Vary asks to carry a run's drill out again with another setting of an upstream, and to compare the two.
	Vary struct{ ID, Change, Function string }
)

// Runs is where runs are kept.
type Runs interface {
	Load(id string) (*record.Run, error)
	Filter(id string, f record.Filter) (*record.Run, error) // of a run that is too large to be held whole
	Name(id, name string) error
	Note(id, text string) error
	Pin(id string, on bool) error
	PutAside(store.Info) error
	BringBack() (store.Info, bool)
}

// Keys are the keys of the view.
var Keys = struct {
	Older, Newer, Open, Budgets, Lanes, Cursor, Filter, Alone, Runs, Start, Export, Replay, Vary, Forecast,
	Trends, Copy, Escape key.Binding
}{
	Older:    key.NewBinding(key.WithKeys("left"), key.WithHelp("←→", "older and newer runs, or the cursor")),
	Newer:    key.NewBinding(key.WithKeys("right")),
	Open:     pane.Bind("open the row, or what is behind the cursor", "enter"),
	Budgets:  pane.Bind("budgets that were met", "b"),
	Lanes:    pane.Bind("the run's lanes", "l"),
	Cursor:   pane.Bind("a cursor on the drawings", "c"),
	Filter:   pane.Bind("filter", "/"),
	Alone:    pane.Bind("findings of what is chosen alone", "f"),
	Runs:     pane.Bind("past runs", "r"),
	Start:    pane.Bind("take the function's start apart", "X"),
	Export:   pane.Bind("export to files", "x"),
	Replay:   pane.Bind("replay its events", "a"),
	Vary:     pane.Bind("again with an upstream changed, and compare", "v"),
	Forecast: pane.Bind("forecast it under other limits", "w"),
	Trends:   pane.Bind("trends of the drill over commits", "t"),
	Copy:     pane.Bind("copy the verdict", "y"),
	Escape:   key.NewBinding(key.WithKeys("esc", "escape"), key.WithHelp("esc", "back")),
}

// Model is the state of the view.
type Model struct {
	w, h    int
	store   Runs
	runs    []store.Info // the newest first
	whole   *report.Page
	page    *report.Page // what is shown: the whole, or what a filter takes
	run     *record.Run  // of the page, once it was needed
	filter  record.Filter
	loading string
	working string // what goes on in the background
	trouble string
	scroll  scroll.Page
	points  []point
	cursor  int             // among the points, or -1
	row     int             // of the table of functions
	rowsAt  []int           // and where: rows of the page
	rows    []string        // the functions of the table, as it was drawn
	open    map[string]bool // functions whose sentences are shown
	budgets bool            // those that were met are shown one by one
	parts   []part          // the sections of the page, as it was drawn
	top     int             // rows of the canvas above the page's first
	calls   *calls
	list    *list
	outlook *outlook // a forecast from the run
	trends  *trends  // of the run's drill over commits
}

// New returns the view.
func New(runs Runs) *Model { return &Model{store: runs, cursor: -1, open: map[string]bool{}} }

// Resize sets the view's size in cells.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	return nil
}

// Runs sets the list of runs, the newest first.
func (m *Model) Runs(all []store.Info) {
	m.runs = all
	if m.whole != nil && m.place() < 0 { // it was deleted
		m.Show(nil)
	}
	if m.list != nil {
		m.list.at = min(m.list.at, max(len(all)-1, 0))
	}
}

// Loading notes that a run is being read.
func (m *Model) Loading(id string) { m.loading, m.trouble = id, "" }

// Trouble notes that a run could not be read or kept.
func (m *Model) Trouble(text string) { m.loading, m.trouble = "", text }

// Show shows the findings of a run.
func (m *Model) Show(p *report.Page) {
	same := m.whole != nil && p != nil && m.whole.Summary.Run == p.Summary.Run
	if !same {
		m.run, m.filter = nil, record.Filter{}
	}
	m.whole, m.page, m.loading, m.trouble, m.scroll.At, m.cursor, m.calls = p, p, "", "", 0, -1, nil
	m.filter, m.row = record.Filter{}, 0
	clear(m.open)
	if !same {
		m.outlook, m.trends = nil, nil
	}
}

// Have sets the run whose findings the view shows.
func (m *Model) Have(r *record.Run) {
	if m.whole != nil && r.ID == m.whole.Summary.Run {
		m.run = r
	}
}

// Shown returns the name of the run that is shown, or "".
func (m *Model) Shown() string {
	if m.whole == nil {
		return ""
	}
	return m.whole.Summary.Run
}

// Empty reports whether there is nothing to show yet.
func (m *Model) Empty() bool { return m.page == nil }

// OnPage reports whether the page of a run is shown, and nothing that was opened from it.
func (m *Model) OnPage() bool {
	return m.page != nil && m.outlook == nil && m.trends == nil && m.list == nil
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case m.list != nil:
		return m.listKey(k)
	case m.outlook != nil:
		return m.outlookKey(k)
	case m.trends != nil:
		return m.trendKey(k)
	case m.calls != nil:
		return m.callsKey(k)
	case key.Matches(k, Keys.Runs):
		m.list = &list{at: max(m.place(), 0), marked: map[string]bool{}}
		return nil
	case m.page == nil:
		return nil
	case key.Matches(k, Keys.Filter):
		return m.askFilter()
	case key.Matches(k, Keys.Export):
		return m.askExport(m.Shown())
	case key.Matches(k, Keys.Replay):
		id := m.Shown()
		return func() tea.Msg {
			return msg.Ask{Title: "Send the events of run " + id + " again, to today's code? y / any other key",
				YesNo: true, Done: func(string) tea.Cmd { return func() tea.Msg { return Replay{id} } }}
		}
	case key.Matches(k, Keys.Vary):
		return m.askVary()
	case key.Matches(k, Keys.Forecast):
		return m.askForecast()
	case key.Matches(k, Keys.Trends):
		m.openTrends()
	case key.Matches(k, Keys.Copy):
		return m.copy()
	case key.Matches(k, Keys.Cursor):
		if m.cursor >= 0 {
			m.cursor = -1
			return nil
		}
		m.firstPoint()
		return nil
	case m.cursor >= 0:
		return m.cursorKey(k)
	case key.Matches(k, Keys.Escape):
		if m.filter != (record.Filter{}) {
			m.unfilter()
		}
	case key.Matches(k, scroll.Keys.Up) && m.moveRow(-1), key.Matches(k, scroll.Keys.Down) && m.moveRow(1):
	case m.scroll.Key(k):
	case key.Matches(k, Keys.Open):
		m.toggle()
	case key.Matches(k, Keys.Budgets):
		m.budgets = !m.budgets
	case key.Matches(k, Keys.Older):
		return m.move(1)
	case key.Matches(k, Keys.Newer):
		return m.move(-1)
	case key.Matches(k, Keys.Start):
		if m.row >= 0 && m.row < len(m.rows) {
			function := m.rows[m.row]
			return func() tea.Msg { return msg.Start{Function: strings.TrimSuffix(function, plan.DroppedMark)} }
		}
	case key.Matches(k, Keys.Lanes):
		return func() tea.Msg { return Lanes{} }
	}
	return nil
}

// place returns the place of the shown run in the list, or -1.
func (m *Model) place() int {
	for i := range m.runs {
		if m.runs[i].ID == m.Shown() {
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

// Help returns the keys that work now.
func (m *Model) Help() []key.Binding {
	bind := func(k, help string) key.Binding { return key.NewBinding(key.WithKeys(k), key.WithHelp(k, help)) }
	switch {
	case m.list != nil:
		return []key.Binding{bind("enter", "open"), bind("space", "mark to compare"), bind("c", "compare"),
			bind("n", "name"), bind("o", "note"), bind("p", "pin"), bind("/", "filter"), bind("x", "export"),
			bind("D", "delete"), bind("u", "undo"), bind("y", "copy its name"), Keys.Escape}
	case m.outlook != nil:
		return m.outlookHelp()
	case m.trends != nil:
		return m.trendHelp()
	case m.calls != nil:
		return []key.Binding{bind("enter", "open it in the lanes"), bind("↑↓", "choose"), bind("/", "filter"),
			bind("f", "findings of these alone"), Keys.Escape}
	case m.page == nil:
		return []key.Binding{Keys.Runs}
	case m.cursor >= 0:
		return []key.Binding{bind("enter", "what is behind it"), bind("arrows", "move"),
			bind("f", "findings of these alone"),
			Keys.Escape}
	}
	out := []key.Binding{bind("enter", "open the row"), bind("l", "lanes"), Keys.Cursor, Keys.Filter, Keys.Runs,
		Keys.Forecast, bind("t", "trends"), Keys.Export, Keys.Replay}
	if len(m.page.Summary.Upstreams) > 0 {
		out = slices.Insert(out, 3, Keys.Vary)
	}
	if len(m.runs) > 1 {
		out = append(out, bind("←→", "older and newer"))
	}
	if m.scroll.Long() {
		out = append(out, scroll.Keys.Up)
	}
	if m.filter != (record.Filter{}) {
		out = append([]key.Binding{bind("esc", "all of the run")}, out...)
	}
	return out
}

// Keys returns all keys of what has the focus, for the help.
func (m *Model) Keys() []key.Binding {
	if m.list != nil || m.calls != nil || m.cursor >= 0 || m.outlook != nil || m.trends != nil {
		return m.Help()
	}
	return []key.Binding{Keys.Older, scroll.Keys.Up, scroll.Keys.PageUp, Keys.Open, Keys.Budgets, Keys.Lanes,
		Keys.Cursor, Keys.Filter,
		Keys.Runs, Keys.Start, Keys.Export, Keys.Replay, Keys.Vary, Keys.Forecast, Keys.Trends,
		Keys.Copy, Keys.Escape}
}

// Title names the run that is shown.
func (m *Model) Title() (canvas.Style, string) {
	switch {
	case m.loading != "":
		return canvas.Dim, "reading run " + m.loading
	case m.working != "":
		return canvas.Warm, m.working
	case m.page == nil:
		return canvas.Dim, "no runs yet"
	}
	s := m.page.Summary
	text, style := s.Drill, canvas.Plain
	if at := m.place(); at >= 0 {
		text = m.runs[at].Label(time.Now())
		if len(m.runs) > 1 {
			text = fmt.Sprintf("%d of %d  %s", len(m.runs)-at, len(m.runs), text)
		}
	}
	if !s.Finished {
		text, style = text+"  unfinished", canvas.Bad
	}
	return style, fmt.Sprintf("%s  %.1f s", text, s.Seconds)
}

// took is the result of work in the background.
type took struct {
	id     string
	run    *record.Run
	page   *report.Page
	filter record.Filter
	then   func() tea.Cmd
	err    error
}

// Took takes what work in the background came to, and reports whether it was the view's.
func (m *Model) Took(incoming tea.Msg) (tea.Cmd, bool) {
	t, ok := incoming.(took)
	if !ok {
		return nil, false
	}
	m.working = ""
	if t.id != m.Shown() { // another run is shown by now
		return nil, true
	}
	if t.run != nil {
		m.run = t.run
	}
	switch {
	case t.err != nil:
		return msg.Complain("%v", t.err), true
	case t.page != nil:
		m.page, m.filter, m.scroll.At, m.cursor, m.calls = t.page, t.filter, 0, -1, nil
	case t.then != nil:
		return t.then(), true
	}
	return nil, true
}

// withRun does something with the whole run, which is read where it was not yet.
func (m *Model) withRun(do func() tea.Cmd) tea.Cmd {
	if m.run != nil {
		return do()
	}
	id, runs := m.Shown(), m.store
	m.working = "reading the run …"
	return func() tea.Msg {
		r, err := runs.Load(id)
		return took{id: id, run: r, then: do, err: err}
	}
}

// askFilter requests a filter; the one that holds, or the point under the cursor, is
// written already.
func (m *Model) askFilter() tea.Cmd {
	text := m.filter.String()
	if p := m.under(); p != nil {
		text = m.filter.And(p.pick).String()
	}
	return func() tea.Msg {
		return msg.Ask{Title: "Filter, such as class=warm from=2s to=4s (function, variant, source, route, class, " +
			"status, outcome, from, to, longer, shorter, nth):", Text: text,
			Done: func(text string) tea.Cmd {
				f, err := record.ParseFilter(text)
				if err != nil {
					return msg.Complain("%v", err)
				}
				return m.apply(f)
			}}
	}
}

// apply shows what a filter takes.
func (m *Model) apply(f record.Filter) tea.Cmd {
	if f == (record.Filter{}) {
		m.unfilter()
		return nil
	}
	if m.run == nil && m.whole != nil && m.whole.Summary.Events.Arrived > mostHeld {
		id, runs := m.Shown(), m.store
		m.working = fmt.Sprintf("looking through %d events …", m.whole.Summary.Events.Arrived)
		return func() tea.Msg {
			// what a filter takes may be most of the memory: rather collect garbage more often than hold twice as much
			defer debug.SetGCPercent(debug.SetGCPercent(40))
			part, err := runs.Filter(id, f)
			if err != nil {
				return took{id: id, err: err}
			}
			return filtered(part, f)
		}
	}
	return m.withRun(func() tea.Cmd {
		r := m.run
		if why := r.Unknown(f); why != "" {
			return msg.Complain("%s", why)
		}
		m.working = fmt.Sprintf("looking through %d invocations …", len(r.Invocations))
		return func() tea.Msg { return filtered(r.Filter(f), f) }
	})
}

// mostHeld is the number of events up to which a run is held in memory once it was filtered, so that the next
// filter is quicker; each takes some 210 bytes.
const mostHeld = 2_000_000

// filtered returns the findings of a part of a run.
func filtered(part *record.Run, f record.Filter) took {
	if len(part.Deliveries) == 0 && len(part.Invocations) == 0 {
		return took{id: part.ID, err: fmt.Errorf("nothing in the run matches %s", f)}
	}
	p := report.NewPage(part)
	p.Filter = f.String()
	return took{id: part.ID, page: p, filter: f}
}

func (m *Model) unfilter() {
	m.page, m.filter, m.scroll.At, m.cursor, m.calls = m.whole, record.Filter{}, 0, -1, nil
}

// askExport asks where to write a run.
func (m *Model) askExport(id string) tea.Cmd {
	return func() tea.Msg {
		return msg.Ask{Title: "Write all exports of the run to which folder?", Text: "exports/" + id,
			Done: func(dir string) tea.Cmd { return func() tea.Msg { return Export{id, dir} } }}
	}
}

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	out := canvas.New(m.w, m.h, theme)
	m.top = 0
	switch {
	case m.list != nil:
		m.drawList(out)
		return out
	case m.trouble != "":
		canvas.Flow(out, 2, 1, m.w-2, canvas.Bad, m.trouble)
		if m.page == nil {
			return out
		}
		m.top = 3
	case m.loading != "" && m.page == nil:
		out.Put(2, 1, canvas.Dim, "Reading the run …")
		return out
	case m.page == nil:
		out.Put(2, 1, canvas.Plain, "No runs yet.")
		out.Put(2, 3, canvas.Dim, "Press 4 to choose a drill and start it; its findings appear here when it has "+
			"finished.")
		return out
	}
	if m.outlook != nil {
		m.drawOutlook(out)
		return out
	}
	if m.trends != nil {
		m.drawTrends(out, theme)
		return out
	}
	if m.filter != (record.Filter{}) {
		out.PutUpTo(1, m.top, m.w-30, canvas.Warm, "only "+m.filter.String())
		out.Right(m.w-1, m.top, canvas.Dim, "esc shows all of the run")
		m.top++
	}
	page := canvas.New(m.w, m.room(), theme)
	m.points = m.points[:0]
	m.scroll.Fit(m.drawPage(page), m.h-m.top)
	if p := m.under(); p != nil {
		page.Restyle(p.x, p.y, p.w, canvas.Chosen)
		m.scroll.At = max(min(m.scroll.At, max(p.y-4, 0)), p.y-m.scroll.Room+3)
	}
	m.scroll.Draw(out, m.top, page)
	m.drawStays(out, page)
	last := m.h - 1
	switch p := m.under(); {
	case m.calls != nil:
		m.drawCalls(out)
	case p != nil:
		out.Fill(0, last, m.w, 1)
		out.PutUpTo(1, last, m.w-1, canvas.Warm, "▸ "+p.words)
	default:
		m.scroll.Rest(out)
	}
	return out
}

// routes counts the routes of all functions.
func (m *Model) routes() (n int) {
	for _, f := range m.page.Summary.Functions {
		n += 3 * len(f.Routes)
	}
	return n
}

// room returns enough rows for the whole page.
func (m *Model) room() int {
	s := m.page.Summary
	return 80 + 60*len(m.page.Functions) + 12*len(m.page.Sources) + 16*len(m.page.Failures) +
		m.routes() + m.neighbours() + 2*len(s.Changes) + 3*len(s.Budgets) + 8*len(s.Warnings) + 4*len(m.page.Findings)
}
