// Package drillview is the view of a drill in progress, or of one that is over:
// what arrives, which instance does what, what waits and what is rejected,
// on one time axis.
package drillview

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/pane"
)

// Start asks the shell to start a drill.
type Start struct{ Drill *plan.Drill }

// Stop asks the shell to stop the drill in progress.
type Stop struct{}

// Map asks the shell to put an event of a run on the map.
type Map struct {
	Run   *record.Run
	Event int64
}

// Keys are the keys of the view.
var Keys = struct {
	Start, Stop, Up, Down, Left, Right, Open, Map, Close, In, Out, Back, On, All, Logs, Search, Smaller,
	Larger, Copy key.Binding
}{
	Start:   pane.Bind("start a drill", "s"),
	Stop:    pane.Bind("stop the drill", "S"),
	Up:      key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓", "choose a lane")),
	Down:    key.NewBinding(key.WithKeys("down")),
	Left:    key.NewBinding(key.WithKeys("left"), key.WithHelp("←→", "choose an invocation")),
	Right:   key.NewBinding(key.WithKeys("right")),
	Open:    pane.Bind("open it", "enter"),
	Map:     pane.Bind("trace on the map", "g"),
	Close:   pane.Bind("close", "esc"),
	In:      key.NewBinding(key.WithKeys("+", "="), key.WithHelp("+ -", "zoom")),
	Out:     key.NewBinding(key.WithKeys("-", "_")),
	Back:    key.NewBinding(key.WithKeys(",", "pgup"), key.WithHelp(", .", "scroll in time")),
	On:      key.NewBinding(key.WithKeys(".", "pgdown")),
	All:     key.NewBinding(key.WithKeys("0", "home"), key.WithHelp("0", "the whole drill")),
	Logs:    pane.Bind("logs, of the lane that is chosen", "l"),
	Search:  pane.Bind("search the logs", "/"),
	Smaller: key.NewBinding(key.WithKeys("<"), key.WithHelp("< >", "lower part smaller, larger")),
	Larger:  key.NewBinding(key.WithKeys(">")),
	Copy:    pane.Bind("copy the invocation, or the log", "y"),
}

// Model is the state of the view.
type Model struct {
	p      *plan.Project
	w, h   int
	choice int // of the drills, while none was started

	drill  *plan.Drill
	closed bool // choosing a drill although there is one to show
	live   bool // a drill is in progress
	ending bool
	chart  *draw.Chart
	tally  *measure.Tally
	looks  []engine.Stats
	planed clock.Time // how long the drill's arrivals take by the plan

	from, span clock.Time // of the window; span 0 for the whole drill
	lane       int        // under the cursor, or -1
	call       int        // invocation of the lane under the cursor, or -1
	bands      map[string]*band
	short      map[int][]string // of one frame: the names of the functions, by their width
	top        int              // first lane shown
	details    bool
	scroll     int // of the details
	logs       logs
	lower      int // how many parts below the lanes are hidden
	grow       int // rows that what is docked has more than it needs, or less
	panel      panel
	loading    string
	cached     struct { // bytes that were read from the store
		run string
		of  map[int32][]byte
	}
	kept   Kept
	inside struct { // what happened within an invocation, as it was last looked up
		run string
		key [2]uint64
		of  []explain.Inside
	}
}

// Kept reads what a run keeps beside its records.
type Kept interface {
	Blob(run string, number int32) ([]byte, error) // of an event or a reply
	Lines(run string) ([]record.Line, error)       // of the log
}

// New returns the view of a project.
func New(p *plan.Project, kept Kept) *Model {
	return &Model{p: p, kept: kept, lane: -1, call: -1}
}

// Project sets the project, when it was read again.
func (m *Model) Project(p *plan.Project) {
	m.p, m.choice = p, 0
}

// Resize sets the view's size in cells.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	return nil
}

// Begin shows a drill that begins now.
func (m *Model) Begin(d *plan.Drill, r *record.Run) {
	m.drill, m.live, m.ending, m.closed = d, true, false, false
	m.chart, m.tally = &draw.Chart{}, measure.NewTally(r)
	m.from, m.span, m.lane, m.call, m.top, m.details = 0, 0, -1, -1, 0, false
	m.logs = logs{open: m.logs.open}
	m.planed, m.panel = 0, panel{}
	for i := range d.Feeds {
		m.planed = max(m.planed, clock.Time(m.p.Span(&d.Feeds[i])))
	}
	m.Update(r, nil)
}

// Loading notes that a run is being read.
func (m *Model) Loading(id string) { m.loading = id }

// Shown returns the name of the run that is shown, or "".
func (m *Model) Shown() string {
	if m.chart == nil || m.chart.Run() == nil {
		return ""
	}
	return m.chart.Run().ID
}

// Return goes back from choosing a drill to the one that was shown.
func (m *Model) Return() { m.closed = false }

// Show shows a run that is over.
func (m *Model) Show(r *record.Run) {
	m.loading = ""
	m.drill, m.live, m.closed = m.p.DrillNamed(r.Drill), false, false
	m.chart, m.tally = &draw.Chart{}, measure.NewTally(r)
	m.from, m.span, m.lane, m.call, m.top, m.details = 0, 0, -1, -1, 0, false
	m.logs = logs{}
	m.Update(r, nil)
}

// Update takes in what was recorded since.
func (m *Model) Update(r *record.Run, looks []engine.Stats) {
	m.chart.Update(r)
	m.tally.Update(r, m.chart.Invocation)
	m.looks = looks
}

// Ending notes that the drill is being stopped.
func (m *Model) Ending() { m.ending = true }

// Ended notes that the drill is over.
func (m *Model) Ended(r *record.Run) {
	m.live, m.ending = false, false
	m.logs = logs{} // the rest of it is read from what was kept
	m.Update(r, nil)
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	if m.choosing() {
		return m.chooseKey(k)
	}
	if m.Typing() {
		return m.limitKey(k)
	}
	if m.chart == nil {
		return nil
	}
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	lanes := m.chart.Lanes()
	switch {
	case is(Keys.Start) && !m.live:
		m.closed = true
	case is(LimitKeys.Open) && m.live && !m.cold():
		m.panel.open, m.details, m.logs.open = true, false, false
	case is(Keys.Stop) && m.live:
		return func() tea.Msg { return Stop{} }
	case is(Keys.Close):
		switch {
		case m.details:
			m.details = false
		case m.logs.open:
			m.logs.open = false
		default:
			m.lane, m.call = -1, -1
		}
	case is(Keys.Up), is(Keys.Down):
		by := 1
		if is(Keys.Up) {
			by = -1
		}
		m.moveLane(lanes, by)
	case is(Keys.Left), is(Keys.Right):
		by := 1
		if is(Keys.Left) {
			by = -1
		}
		m.moveCall(lanes, by)
	case is(Keys.Open):
		if m.lane < 0 {
			m.moveLane(lanes, 1)
		}
		m.details, m.scroll, m.logs.open = m.lane >= 0, 0, false
		return m.readLog()
	case is(Keys.Map) && m.under() != nil && !m.cold():
		if events := m.chart.Events(m.under()); len(events) > 0 {
			to := Map{m.chart.Run(), events[0].Event}
			return func() tea.Msg { return to }
		}
	case is(Keys.In):
		m.zoom(2)
	case is(Keys.Out):
		m.zoom(0.5)
	case is(Keys.Logs):
		m.details = false
		return m.toggleLogs()
	case is(Keys.Copy):
		return m.copy()
	case is(Keys.Search) && m.logs.open:
		return m.askSearch()
	case is(Keys.Smaller), is(Keys.Larger):
		m.resize(is(Keys.Larger))
	case (m.details || m.logs.open) && (is(Keys.Back) || is(Keys.On)):
		by := max(m.dockRows()/2, 1)
		if is(Keys.Back) {
			by = -by
		}
		if m.details {
			m.scroll = max(m.scroll+by, 0)
		} else {
			m.logs.scroll += by
		}
	case is(Keys.Back), is(Keys.On):
		w := m.window()
		by := (w.To - w.From) / 4
		if is(Keys.Back) {
			by = -by
		}
		m.look(w.From+by, w.To-w.From)
	case is(Keys.All):
		m.span = 0
	}
	return nil
}

func (m *Model) choosing() bool { return m.loading == "" && (m.chart == nil || m.closed) }

func (m *Model) chooseKey(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, Keys.Up):
		m.choice = max(m.choice-1, 0)
	case key.Matches(k, Keys.Down):
		m.choice = min(m.choice+1, len(m.p.Drills)-1)
	case key.Matches(k, Keys.Close):
		m.closed = false
	case key.Matches(k, Keys.Open), key.Matches(k, Keys.Start):
		if len(m.p.Drills) > 0 {
			d := &m.p.Drills[m.choice]
			return func() tea.Msg { return Start{d} }
		}
	}
	return nil
}

// Help returns the keys that work now, in the order of their use.
func (m *Model) Help() []key.Binding {
	switch {
	case m.choosing() && len(m.p.Drills) == 0:
		return nil
	case m.choosing():
		start := pane.Bind("start this drill", "enter")
		pick := key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓", "choose a drill"))
		return []key.Binding{start, pick}
	case m.Typing():
		return []key.Binding{LimitKeys.Cell, LimitKeys.More, LimitKeys.Away, LimitKeys.Replace, LimitKeys.Close}
	case m.details && m.under() != nil && !m.cold():
		return []key.Binding{Keys.Left, Keys.Up, Keys.Map, Keys.Close}
	case m.details:
		return []key.Binding{Keys.Left, Keys.Up, Keys.Close}
	case m.logs.open:
		more := key.NewBinding(key.WithKeys("pgup"), key.WithHelp("pgup pgdn", "more lines"))
		return []key.Binding{Keys.Up, Keys.Left, Keys.Search, more, Keys.Smaller, Keys.Close}
	case m.live && !m.cold():
		return []key.Binding{Keys.Stop, LimitKeys.Open, Keys.Up, Keys.Left, Keys.Open, pane.Short(Keys.Logs, "logs"),
			Keys.In, Keys.Back, Keys.All}
	}
	return []key.Binding{Keys.Start, Keys.Up, Keys.Left, Keys.Open, pane.Short(Keys.Logs, "logs"), Keys.In, Keys.Back,
		Keys.All}
}

// length is the stretch of time that there is to see.
func (m *Model) length() clock.Time {
	r := m.chart.Run()
	if !m.live {
		return max(r.Length, 1)
	}
	return max(r.Length, m.planed+m.planed/20, clock.Time(time.Second))
}

// follow is the longest drill that is shown whole while it runs.
const follow = clock.Time(90 * time.Second)

// window returns the stretch of time that is shown.
func (m *Model) window() draw.Window {
	cells := max(m.w-left-right, 10)
	if m.span > 0 {
		return draw.Window{From: m.from, To: m.from + m.span, Cells: cells}
	}
	length := m.length()
	if m.live && length > follow {
		end := max(m.chart.Run().Length, follow)
		return draw.Window{From: end - follow, To: end, Cells: cells}
	}
	return draw.Window{From: 0, To: length, Cells: cells}
}

// look shows a stretch of time, kept within the drill.
func (m *Model) look(from, span clock.Time) {
	length := m.length()
	if span >= length {
		m.span = 0
		return
	}
	m.span = max(span, clock.Time(100*time.Microsecond))
	m.from = min(max(from, 0), length-m.span)
}

// zoom changes the scale around the cursor, or around the middle.
func (m *Model) zoom(by float64) {
	w := m.window()
	at := (w.From + w.To) / 2
	if v := m.under(); v != nil {
		at = v.Assigned
	}
	share := float64(at-w.From) / float64(w.To-w.From)
	span := clock.Time(float64(w.To-w.From) / by)
	m.look(at-clock.Time(share*float64(span)), span)
}

// under returns the invocation under the cursor, or nil.
func (m *Model) under() *record.Invocation {
	lanes := m.chart.Lanes()
	if m.lane < 0 || m.lane >= len(lanes) || m.call < 0 || m.call >= len(lanes[m.lane].Invocations) {
		return nil
	}
	return &m.chart.Run().Invocations[lanes[m.lane].Invocations[m.call]]
}

// Select moves the cursor to an invocation and opens it.
func (m *Model) Select(id uint64) tea.Cmd {
	if m.chart == nil {
		return nil
	}
	v := m.chart.Invocation(id)
	if v == nil {
		return nil
	}
	for i, l := range m.chart.Lanes() {
		if l.Instance.ID != v.Instance {
			continue
		}
		for k, at := range l.Invocations {
			if m.chart.Run().Invocations[at].ID == id {
				m.lane, m.call, m.details, m.scroll = i, k, true, 0
				m.comeAlong(l)
				return m.readLog()
			}
		}
	}
	return nil
}

func (m *Model) moveLane(lanes []*draw.Lane, by int) {
	if len(lanes) == 0 {
		return
	}
	at := m.chart.Run().Length
	if v := m.under(); v != nil {
		at = v.Assigned
	}
	if m.lane < 0 {
		m.lane = m.latest(lanes)
	} else {
		m.lane = min(max(m.lane+by, 0), len(lanes)-1)
	}
	m.call, m.logs.scroll = m.chart.Near(lanes[m.lane], at), 0
	m.comeAlong(lanes[m.lane])
}

// latest returns the lane with the latest call, where a new cursor appears.
func (m *Model) latest(lanes []*draw.Lane) int {
	best, done := 0, clock.Time(-1)
	for i, l := range lanes {
		if n := len(l.Invocations); n > 0 {
			if d := m.chart.Run().Invocations[l.Invocations[n-1]].Done; d > done {
				best, done = i, d
			}
		}
	}
	return best
}

func (m *Model) moveCall(lanes []*draw.Lane, by int) {
	if len(lanes) == 0 {
		return
	}
	if m.lane < 0 {
		m.moveLane(lanes, 0)
		return
	}
	l := lanes[m.lane]
	m.call, m.logs.scroll = max(min(m.call+by, len(l.Invocations)-1), min(0, len(l.Invocations)-1)), 0
	m.comeAlong(l)
}

// comeAlong moves a zoomed window to where the cursor is.
func (m *Model) comeAlong(l *draw.Lane) {
	if m.span == 0 {
		return
	}
	at := l.Instance.Spawned
	if v := m.under(); v != nil {
		at = v.Assigned
	}
	if w := m.window(); at < w.From || at >= w.To {
		m.look(at-m.span/2, m.span)
	}
}

// Took takes the lines of a log that were read; ok is false for messages of others.
func (m *Model) Took(x tea.Msg) (cmd tea.Cmd, ok bool) {
	lines, ok := x.(linesMsg)
	if ok && lines.run == m.Shown() {
		m.logs.loading, m.logs.lines, m.logs.trouble = false, lines.all, lines.err
	}
	return nil, ok
}

// Keys returns all keys of the view, for the help.
func (m *Model) Keys() []key.Binding {
	return []key.Binding{Keys.Start, Keys.Stop, LimitKeys.Open, Keys.Up, Keys.Left, Keys.Open, Keys.Map, Keys.Logs,
		Keys.Search, Keys.Copy, Keys.Smaller, Keys.Close, Keys.In, Keys.Back, Keys.All}
}

// Title describes in a few words what is going on.
func (m *Model) Title() (style canvas.Style, text string) {
	switch {
	case m.loading != "":
		return canvas.Dim, "reading run " + m.loading
	case m.chart == nil:
		return canvas.Dim, "no drill yet"
	}
	r := m.chart.Run()
	switch {
	case r.Simulated != "":
		return canvas.Cold, "simulated: " + r.Drill + " with " + r.Simulated
	case m.ending:
		return canvas.Bad, fmt.Sprintf("%s  stopping", r.Drill)
	case m.live && m.cold():
		return canvas.Warm, "● " + r.Drill + "  " + m.progress()
	case m.live && r.Length > m.planed:
		return canvas.Warm, fmt.Sprintf("● %s  %.1f s, settling", r.Drill, r.Length.Seconds())
	case m.live:
		return canvas.Warm, fmt.Sprintf("● %s  %.1f s of about %.0f s", r.Drill, r.Length.Seconds(), m.planed.Seconds())
	case !r.Finished:
		return canvas.Bad, fmt.Sprintf("%s  stopped after %.1f s", r.Drill, r.Length.Seconds())
	}
	return canvas.Plain, fmt.Sprintf("%s  finished in %.1f s", r.Drill, r.Length.Seconds())
}

// progress describes how far a drill of cold starts has come, and how long it still takes at most.
func (m *Model) progress() string {
	r := m.chart.Run()
	all, done := r.ColdStarts*len(r.Functions), 0
	for i := range r.Instances {
		if r.Instances[i].Stopped > 0 {
			done++
		}
	}
	warm := 0
	if m.drill != nil && m.drill.Cold != nil {
		warm = m.drill.Cold.Warm * len(r.Functions)
	}
	if extra := len(r.Deliveries) - done; r.StoppedAt > 0 || done >= all-len(r.Functions)*5 && warm > 0 && extra > 0 {
		return fmt.Sprintf("warm invocation %d of %d", min(max(extra, 0), warm), warm)
	}
	out := fmt.Sprintf("start %d of %d", min(done+1, all), all)
	if r.EarlyOf > 0 {
		out = fmt.Sprintf("start %d of up to %d", min(done+1, all), all)
	}
	if done >= len(r.Functions) {
		left := r.Length.Sub(0) / time.Duration(done) * time.Duration(all-done)
		out += ", about " + text.Duration(max(left.Round(time.Second), time.Second)) + " left"
	}
	return out
}

// Looks returns the state of each function, while a drill is in progress; nil where
// its functions are not the project's.
func (m *Model) Looks() []engine.Stats {
	if m.cold() {
		return nil
	}
	return m.looks
}

// cold reports whether the run is of cold starts, each variant as a function.
func (m *Model) cold() bool {
	return m.chart != nil && m.chart.Run() != nil && m.chart.Run().ColdStarts > 0
}

// Now returns the time of the drill.
func (m *Model) Now() clock.Time {
	if m.chart == nil {
		return 0
	}
	return m.chart.Run().Length
}

// describe describes what a drill does.
func describe(p *plan.Project, d *plan.Drill) string {
	var feeds []string
	longest := time.Duration(0)
	for i := range d.Feeds {
		f := &d.Feeds[i]
		longest = max(longest, p.Span(f))
		feeds = append(feeds, fmt.Sprintf("%s from %s", p.Sources[f.Source].Name, p.FeedName(f)))
	}
	if d.Cold != nil {
		return fmt.Sprintf("%d cold starts of each variant, in turns: %s", d.Cold.N, strings.Join(feeds, ", "))
	}
	return fmt.Sprintf("about %v: %s", text.Duration(longest.Round(time.Second)), strings.Join(feeds, ", "))
}
