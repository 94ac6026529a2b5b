// Package tui is the full-screen program: a shell that sizes, routes and draws
// the frame, around one package for each view.
package tui

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/compareview"
	"nightdrill.dev/internal/tui/drillview"
	"nightdrill.dev/internal/tui/findings"
	"nightdrill.dev/internal/tui/fireview"
	"nightdrill.dev/internal/tui/input"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
	"nightdrill.dev/internal/tui/setsview"
	"nightdrill.dev/internal/tui/startview"
	"nightdrill.dev/internal/tui/wiringview"
)

// frame is the time between two frames while a drill runs.
const frame = 100 * time.Millisecond

// The smallest terminal that the views fit.
const (
	leastWidth  = 80
	leastHeight = 24
)

// view is what fills the screen between the shell's lines at the top and at the bottom.
type view interface {
	Resize(w, h int) tea.Cmd
	Key(tea.KeyPressMsg) tea.Cmd
	Took(tea.Msg) (cmd tea.Cmd, ok bool) // ok is false for messages of others
	Draw(*canvas.Theme) *canvas.Canvas
	Title() (canvas.Style, string) // what goes on, for the line at the top
	Help() []key.Binding           // the keys that do something now
	Keys() []key.Binding           // all of them
}

// typist is a view with text fields of its own: while it is typing, every key is for them.
type typist interface {
	Typing() bool
	Paste(tea.PasteMsg) tea.Cmd
}

// tab is the place of a view.
type tab int

const (
	onSets tab = iota
	onWiring
	onFire
	onDrill
	onFindings
	onCompare
	onStart
)

var tabs = [...]struct{ key, name string }{onSets: {"1", "Payloads"}, onWiring: {"2", "Wiring"}, onFire: {"3", "Fire"},
	onDrill: {"4", "Drill"}, onFindings: {"5", "Findings"}, onCompare: {"6", "Compare"},
	onStart: {"7", "Start"}}

// views returns all views, each in its place.
func (s *shell) views() [len(tabs)]view {
	return [...]view{onSets: s.sets, onWiring: s.wiring, onFire: s.fire, onDrill: s.drill, onFindings: s.findings,
		onCompare: s.compare, onStart: s.begin}
}

// current returns the view that is shown.
func (s *shell) current() view { return s.views()[s.tab] }

// typing returns the view that is shown while its text fields have the keys, or nil.
func (s *shell) typing() typist {
	if v, ok := s.current().(typist); ok && s.prompt == nil && v.Typing() {
		return v
	}
	return nil
}

// shell is the program's model.
type shell struct {
	workspace *session.Workspace
	stand     *session.Session
	plan      *plan.Expanded // the project as it was last seen
	states    []session.State
	brokenAt  string // key of the item that was last opened since it broke
	ctx       context.Context
	theme     *canvas.Theme
	w, h      int
	tab       tab // whose view is shown
	sets      *setsview.Model
	wiring    *wiringview.Model
	fire      *fireview.Model
	drill     *drillview.Model
	findings  *findings.Model
	compare   *compareview.Model
	begin     *startview.Model
	running   *session.Running
	runs      []store.Info // the newest first
	auto      *plan.Drill  // to be started at once
	help      bool
	guide     guide
	visited   [len(tabs)]bool           // views that were shown
	pressed   map[string]bool           // keys that were pressed in a view
	mouse     bool                      // the mouse is ours, not the terminal's
	tabsAt    [len(tabs)][2]int         // columns of the names of the views in the first row
	prompt    *prompt                   // the command line, while it is open
	typed     map[string]*input.History // earlier lines, by the title of the prompt
	note      string                    // said in the bottom line until the next key, or for a while
	good      bool                      // the note is no complaint
	said      struct {                  // the note as it was last seen, and since when
		text  string
		since time.Time
	}
	preparing   string                   // what is done before a drill starts
	yes         func(string) tea.Cmd     // what y does
	asking      bool                     // whether to stop the drill and leave
	after       func(run string) tea.Cmd // what comes when the drill in progress is over
	again       bool                     // what comes then is another drill
	forecasting *session.Forecasting     // the last forecast
	endForecast func()                   // nil while none is being made
	forecasts   int                      // that were asked for
	opening     uint64                   // the invocation to be shown once its run's lanes are there
	leaving     bool
	broken      bool // interrupted while a drill ran
}

type (
	tickMsg struct{}
	// deskMsg means that something changed in the session; restMsg, that a moment has passed since.
	deskMsg    struct{}
	restMsg    struct{}
	beatMsg    struct{}
	resumedMsg struct{}
	startedMsg struct {
		run   *session.Running
		drill *plan.Drill
		err   error
	}
	endedMsg struct {
		run  *record.Run
		page *report.Page
	}
	lanesMsg struct {
		run *record.Run
		err error
	}
	mapRunMsg struct{ run *record.Run }
	runsMsg   struct{ all []store.Info }
	loadedMsg struct {
		page *report.Page
		id   string
		err  error
		then func() // once it is shown; nil for nothing
	}
	// interruptMsg is a signal from outside, or Ctrl-C.
	interruptMsg struct{}
)

// ErrInterrupted means that the program was interrupted while a drill ran.
var ErrInterrupted = errors.New("interrupted")

// newShell returns the shell with all of its views. A drill that is given is the first that
// is carried out.
func newShell(ctx context.Context, d *session.Workspace, stand *session.Session, drill *plan.Drill) *shell {
	s := &shell{workspace: d, stand: stand, plan: stand.Plan(), ctx: context.WithoutCancel(ctx),
		theme: themeFor(true),
		tab:   onFire, sets: setsview.New(stand), fire: fireview.New(stand),
		drill: drillview.New(d.Project, d.Runs), findings: findings.New(d.Runs), compare: compareview.New(d.Runs),
		begin: startview.New(stand),
		auto:  drill, mouse: wantsMouse(), guide: newGuide(),
		pressed: map[string]bool{}}
	s.wiring = wiringview.New(stand, s.standing)
	s.compare.Offer(s.choices())
	if drill != nil {
		s.tab = onDrill
	}
	return s
}

// Run opens the full-screen program on a project. A drill that is given starts
// at once. It returns when the user leaves; no process is left then.
func Run(ctx context.Context, d *session.Workspace, drill *plan.Drill, listen string, in io.Reader,
	out io.Writer) error {
	stand, err := d.Stand(listen)
	if err != nil {
		return err
	}
	defer stand.Close()
	// the drill ends in order after the screen has, whatever ended the screen
	s := newShell(ctx, d, stand, drill)
	left := make(chan struct{})
	err = runStoppable(s, func(p *tea.Program) {
		go func() {
			select {
			case <-ctx.Done():
				p.Send(interruptMsg{})
			case <-left:
			}
		}()
	}, tea.WithInput(in), tea.WithOutput(out), tea.WithoutSignalHandler(), tea.WithFPS(120))
	close(left)
	if s.running != nil {
		s.running.Stop()
		<-s.running.Done()
	}
	if err == nil && s.broken {
		return ErrInterrupted
	}
	return err
}

func (s *shell) Init() tea.Cmd {
	cmds := []tea.Cmd{tea.RequestBackgroundColor, s.listRuns, s.listen, s.beat()}
	if s.auto != nil {
		d := s.auto
		cmds = append(cmds, func() tea.Msg { return drillview.Start{Drill: d} })
	}
	return tea.Batch(cmds...)
}

// takeApart looks at the start of a function, unless a drill has the functions.
func (s *shell) takeApart(function string) tea.Cmd {
	if s.running != nil || s.preparing != "" {
		return msg.Complain("A drill has the functions; their starts can be looked at when it is over.")
	}
	return s.begin.Take(function)
}

// listen waits until something changes in the session.
func (s *shell) listen() tea.Msg {
	<-s.stand.Changes()
	return deskMsg{}
}

// restFor is the least time between two looks in the session.
const restFor = 10 * time.Millisecond

// beat returns the tick for what changes by itself: the time until an idle instance is stopped,
// lines that are written late.
func (s *shell) beat() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(time.Time) tea.Msg { return beatMsg{} })
}

// look takes in what has changed in the session.
func (s *shell) look() tea.Cmd {
	if p := s.stand.Plan(); p != s.plan {
		s.plan = p
		s.drill.Project(&p.Project)
		s.compare.Offer(s.choices())
	}
	s.states, _ = s.stand.States()
	if s.tab == onWiring && s.running == nil {
		s.wiring.Refresh()
	}
	if s.tab == onSets {
		return tea.Batch(s.sets.Refresh(), s.fire.Refresh())
	}
	return s.fire.Refresh()
}

func (s *shell) listRuns() tea.Msg {
	all, err := s.workspace.Runs.List()
	if err != nil {
		return loadedMsg{err: err}
	}
	return runsMsg{all}
}

func (s *shell) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case tea.WindowSizeMsg:
		s.w, s.h = m.Width, m.Height
		var all []tea.Cmd
		for _, v := range s.views() {
			all = append(all, v.Resize(s.w, s.h-4))
		}
		return s, tea.Batch(all...)
	case tea.BackgroundColorMsg:
		s.theme = themeFor(m.IsDark())
	case tea.KeyPressMsg:
		return s, s.onKey(m)
	case tea.MouseMsg:
		return s, s.onMouse(m)
	case tea.PasteMsg:
		return s, s.paste(m)
	case interruptMsg:
		return s, s.interrupt()
	case deskMsg:
		return s, tea.Batch(s.look(), tea.Tick(restFor, func(time.Time) tea.Msg { return restMsg{} }))
	case restMsg:
		return s, s.listen
	case beatMsg:
		s.fade(time.Now())
		if s.running != nil || s.preparing != "" {
			return s, s.beat()
		}
		return s, tea.Batch(s.look(), s.beat())
	case resumedMsg:
		return s, s.look()
	case startedMsg:
		return s, s.started(m)
	case msg.Ask:
		if s.good = true; m.YesNo {
			s.note, s.yes = m.Title, m.Done
		} else {
			s.openPrompt(m.Title, m.Text, m.Done)
		}
	case msg.Note:
		s.note, s.good = m.Text, !m.Bad
	case msg.Map:
		if m.Item != nil { // it may have gone meanwhile
			s.wiring.Choose(m.Item)
			return s, s.show(onWiring)
		}
	case msg.Start:
		return s, tea.Batch(s.show(onStart), s.takeApart(m.Function))
	case drillview.Map:
		s.wiring.Follow(m.Run, m.Event)
		return s, s.show(onWiring)
	case wiringview.Export:
		return s, s.exportMap(m.Path)
	case setsview.Fire:
		s.tab = onFire
		return s, s.fire.Choose(m.Key)
	case drillview.Start:
		return s, s.start(m.Drill)
	case drillview.Stop:
		s.stop()
	case drillview.SetLimits, drillview.SetAll, drillview.Replace, drillview.SetUpstream:
		s.change(m)
	case tickMsg:
		return s, s.tick()
	case endedMsg:
		return s, s.ended(m)
	case mapRunMsg:
		if m.run.ColdStarts == 0 {
			s.wiring.Run(m.run)
		}
	case runsMsg:
		s.runs = m.all
		s.findings.Runs(m.all)
		s.compare.Runs(m.all)
		if s.findings.Empty() && s.running == nil && len(m.all) > 0 {
			return s, s.load(m.all[0].ID)
		}
	case findings.Load:
		return s, s.load(m.ID)
	case findings.Changed:
		return s, s.listRuns
	case findings.Open:
		s.tab, s.opening = onDrill, m.Invocation
		if s.running != nil || s.drill.Shown() == m.Run {
			s.drill.Return()
			return s, s.drill.Select(s.opening)
		}
		return s, s.lanes(m.Run)
	case findings.Compare:
		s.tab = onCompare
		return s, s.compare.Compare(m.First, m.Second)
	case findings.Export:
		return s, s.exportRun(m.ID, m.Dir)
	case findings.WriteTrend:
		return s, func() tea.Msg {
			if err := export.TrendFile(s.inProject(m.Path), m.Trends, false); err != nil {
				return msg.Failed(err)
			}
			return msg.Note{Text: "written to " + m.Path}
		}
	case findings.Replay:
		return s, s.replay(m.ID)
	case findings.Vary:
		return s, s.vary(m)
	case findings.Foretell:
		return s, s.forecast(m)
	case findings.Cancel:
		s.cancelForecast()
	case findings.Imagine:
		return s, s.imagine(m.Cell)
	case findings.Try:
		return s, s.try(m.Cell)
	case findings.Even:
		return s, s.even(m.What)
	case evenMsg:
		s.evened(m)
	case forecastMsg:
		s.forecasted(m)
	case triedMsg:
		return s, s.tried(m)
	case replayMsg:
		return s, s.replayed(m)
	case compareMsg:
		s.tab = onCompare
		return s, s.compare.Compare(m.first, m.second)
	case compareview.Variants:
		return s, s.compareVariants(m)
	case compareview.Limits:
		return s, s.compareLimits(m)
	case secondMsg:
		return s, s.startSecond(m)
	case compareview.Export:
		return s, s.exportComparison(m)
	case findings.Lanes:
		s.tab = onDrill
		if s.running == nil && s.drill.Shown() != s.findings.Shown() {
			return s, s.lanes(s.findings.Shown())
		}
		s.drill.Return()
	case lanesMsg:
		if m.err != nil {
			s.complain(m.err)
		} else if s.running == nil {
			s.drill.Show(m.run)
			s.mapped(m.run)
			s.findings.Have(m.run)
			if id := s.opening; id > 0 {
				s.opening = 0
				return s, s.drill.Select(id)
			}
		}
		s.opening = 0
	case loadedMsg:
		if m.err != nil {
			s.findings.Trouble(m.err.Error())
		} else {
			s.findings.Show(m.page)
			if m.then != nil {
				m.then()
			}
		}
	default:
		for _, v := range s.views() {
			if cmd, ok := v.Took(m); ok {
				return s, cmd
			}
		}
	}
	return s, nil
}

// start pauses the session's functions and begins a drill.
func (s *shell) start(d *plan.Drill) tea.Cmd {
	if s.running != nil || s.preparing != "" {
		return nil
	}
	if err := s.workspace.Startable(); err != nil {
		s.complain(err)
		return nil
	}
	s.cancelForecast() // it would take the processors from the drill
	s.preparing, s.tab = "preparing "+d.Name, onDrill
	ctx := s.ctx
	return func() tea.Msg {
		s.stand.Pause("the drill " + d.Name + " is in progress")
		if err := s.workspace.Prepare(ctx, d, nil); err != nil {
			return startedMsg{err: err}
		}
		r, err := s.workspace.Start(ctx, d, nil)
		return startedMsg{r, d, err}
	}
}

func (s *shell) resume() tea.Msg {
	s.stand.Resume()
	return resumedMsg{}
}

func (s *shell) complain(err error) {
	s.note, s.good = err.Error(), false
}

// started shows a drill that has begun.
func (s *shell) started(msg startedMsg) tea.Cmd {
	s.preparing = ""
	if msg.err != nil {
		s.after, s.again = nil, false
		s.complain(msg.err)
		return s.resume
	}
	r, d := msg.run, msg.drill
	s.running = r
	s.drill.Begin(d, r.Snapshot())
	if s.leaving {
		s.stop()
	}
	return tea.Batch(s.nextTick(), func() tea.Msg {
		<-r.Done()
		return endedMsg{r.Snapshot(), r.Page()}
	})
}

func (s *shell) nextTick() tea.Cmd {
	return tea.Tick(frame, func(time.Time) tea.Msg { return tickMsg{} })
}

func (s *shell) tick() tea.Cmd {
	if s.running == nil {
		return nil
	}
	run := s.running.Snapshot()
	s.drill.Update(run, s.running.Looks())
	s.drill.Limits(s.running.Limits())
	s.drill.Upstreams(s.running.Neighbours())
	if s.drill.ShowsLines() {
		s.drill.Lines(s.running.Lines())
	}
	if run.ColdStarts == 0 {
		s.wiring.Drill(s.running.Drill, s.running.Traffic(run), run)
	}
	return s.nextTick()
}

// mapped shows a run that is over on the map; one of cold starts has sources of its
// own, which are not there.
func (s *shell) mapped(r *record.Run) {
	if r.ColdStarts > 0 {
		r = nil
	}
	s.wiring.Over(r)
}

// change changes limits, or replaces instances, while a drill runs.
func (s *shell) change(msg tea.Msg) {
	if s.running == nil {
		return
	}
	var err error
	switch msg := msg.(type) {
	case drillview.SetLimits:
		err = s.running.SetLimits(msg.Function, msg.Limits)
	case drillview.SetAll:
		err = s.running.SetConcurrency(msg.Concurrency)
	case drillview.Replace:
		s.running.Replace(msg.Function)
	case drillview.SetUpstream:
		err = s.running.SetUpstream(msg.Upstream, msg.Behaviour)
	}
	s.drill.Limits(s.running.Limits())
	s.drill.Upstreams(s.running.Neighbours())
	s.drill.Changed(err)
}

func (s *shell) stop() {
	if s.running != nil {
		s.drill.Ending()
		s.running.Stop()
	}
}

// ended shows the findings of the drill that is over.
func (s *shell) ended(m endedMsg) tea.Cmd {
	if err := s.running.Err(); err != nil {
		s.complain(err)
	}
	s.running = nil
	s.sets.Ran()
	s.drill.Ended(m.run)
	s.mapped(m.run)
	s.findings.Show(m.page)
	s.findings.Have(m.run)
	if s.leaving {
		return tea.Quit
	}
	s.tab, s.asking = onFindings, false
	if after := s.after; after != nil { // what the drill was for
		s.after = nil
		switch {
		case s.again && !m.run.Finished:
			s.again = false
			s.complain(errors.New("the drill was stopped, so nothing is compared"))
		case s.again: // another drill follows
			s.again = false
			return tea.Sequence(s.listRuns, after(m.run.ID))
		default:
			return tea.Sequence(s.listRuns, after(m.run.ID), s.resume)
		}
	}
	return tea.Batch(s.listRuns, s.resume)
}

func (s *shell) load(id string) tea.Cmd {
	s.findings.Loading(id)
	runs := s.workspace.Runs
	return func() tea.Msg {
		p, err := runs.Page(id)
		return loadedMsg{page: p, id: id, err: err}
	}
}

// lanes reads a run whole, for the Drill view.
func (s *shell) lanes(id string) tea.Cmd {
	s.drill.Loading(id)
	runs := s.workspace.Runs
	return func() tea.Msg {
		r, err := runs.Load(id)
		return lanesMsg{r, err}
	}
}

// interrupt leaves: at once when nothing runs, else when the drill has ended
// in order; a second time, without waiting for that on the screen.
func (s *shell) interrupt() tea.Cmd {
	if s.preparing != "" && !s.leaving {
		s.leaving, s.broken = true, true
		return nil
	}
	if s.running == nil || s.leaving {
		s.broken = s.broken || s.running != nil
		return tea.Quit
	}
	s.leaving, s.broken = true, true
	s.stop()
	return nil
}

// staleAfter is how long the bottom line says what has happened, unless a key is pressed
// before; what went wrong is said for three times as long.
const staleAfter = 10 * time.Second

// fade takes a note off the bottom line that has been said for long enough. A question, and
// what is still being done, stay.
func (s *shell) fade(now time.Time) {
	long := staleAfter
	if !s.good {
		long *= 3
	}
	switch {
	case s.note != s.said.text:
		s.said.text, s.said.since = s.note, now
	case s.note != "" && s.yes == nil && !strings.HasSuffix(s.note, "…") && now.Sub(s.said.since) > long:
		s.note = ""
	}
}

// The shell's own keys.
var keys = struct{ Quit, Help, Command, Next, Broken, Mouse, Hints, Interrupt key.Binding }{
	Quit:      pane.Bind("quit", "q"),
	Help:      pane.Bind("all keys", "?"),
	Command:   pane.Bind("a command by name", ":"),
	Next:      pane.Bind("the next view", "tab"),
	Broken:    pane.Bind("the next reply that is not as expected", "!"),
	Mouse:     pane.Bind("mouse off, to select text, or on", "M"),
	Hints:     pane.Bind("hints for a first look, off or on", "T"),
	Interrupt: key.NewBinding(key.WithKeys("ctrl+c")),
}

// everywhere is the keys that work in every view, as the help and the page of keys list them.
var everywhere = []key.Binding{keys.Next, keys.Command, keys.Broken, keys.Mouse, keys.Hints, keys.Help, keys.Quit}

func (s *shell) onKey(k tea.KeyPressMsg) tea.Cmd {
	s.note = ""
	switch {
	case key.Matches(k, keys.Interrupt):
		return s.interrupt()
	case s.yes != nil:
		do := s.yes
		if s.yes = nil; k.String() == "y" {
			return do("y")
		}
		return nil
	case s.typing() != nil:
		return s.current().Key(k)
	case s.prompt != nil:
		return s.promptKey(k)
	case s.asking:
		s.asking = false
		if k.String() == "y" {
			s.leaving = true
			s.stop()
		}
		return nil
	case s.help:
		s.help = false
		return nil
	case key.Matches(k, keys.Help):
		s.help = true
	case key.Matches(k, keys.Command):
		s.openPrompt("", "", nil)
	case key.Matches(k, keys.Quit):
		return s.quit()
	case key.Matches(k, keys.Hints):
		return s.switchHints()
	case key.Matches(k, keys.Mouse):
		return s.switchMouse()
	case key.Matches(k, keys.Broken):
		return s.showBroken()
	case key.Matches(k, keys.Next):
		return s.show((s.tab + 1) % tab(len(tabs)))
	default:
		for i, t := range tabs {
			if k.String() == t.key {
				return s.show(tab(i))
			}
		}
		s.pressed[k.String()] = true
		return s.current().Key(k)
	}
	return nil
}

// showBroken opens the payload that broke its expectations after the one that is chosen.
func (s *shell) showBroken() tea.Cmd {
	c := s.stand.Checks()
	broken := slices.DeleteFunc(c.Broken(), func(x *session.Checked) bool { return x.Key == "" })
	switch stray := c.Broken(); {
	case !c.On:
		return msg.Complain("Expectations are not checked; W in Fire checks them, and again after each change.")
	case len(broken) == 0 && len(stray) > 0:
		return msg.Complain("%s: %s", stray[0].Title, stray[0].Broken[0])
	case len(broken) == 0:
		return msg.Say("Nothing is known to be broken.")
	}
	at := slices.IndexFunc(broken, func(x *session.Checked) bool { return x.Key == s.brokenAt }) + 1
	x := broken[at%len(broken)]
	s.brokenAt, s.tab = x.Key, onFire
	return tea.Batch(s.fire.Choose(x.Key), msg.Complain("%s", strings.Join(x.Broken, "; ")))
}

// show switches to a view.
func (s *shell) show(t tab) tea.Cmd {
	s.tab = t
	id := s.findings.Shown()
	if t == onCompare {
		return tea.Batch(s.look(), s.compare.About(id))
	}
	if id = s.mappable(); t != onWiring || id == "" || !s.wiring.NeedsRun() {
		return s.look()
	}
	runs := s.workspace.Runs
	return tea.Batch(s.look(), func() tea.Msg {
		r, err := runs.Load(id)
		if err != nil {
			return nil // the map does without it
		}
		return mapRunMsg{r}
	})
}

// mappable returns the latest run whose sources are those of the map, or "": a run of cold starts has
// sources of its own.
func (s *shell) mappable() string {
	for i := range s.runs {
		d := s.workspace.DrillNamed(s.runs[i].Drill)
		if s.runs[i].Headline != nil && d != nil && d.Cold == nil {
			return s.runs[i].ID
		}
	}
	return ""
}

func (s *shell) quit() tea.Cmd {
	if s.running != nil {
		s.asking = true
		return nil
	}
	return tea.Quit
}

func (s *shell) View() tea.View {
	v := tea.NewView(s.draw())
	v.AltScreen = true
	if s.mouse {
		v.MouseMode = tea.MouseModeCellMotion
	}
	v.WindowTitle = "Night Drill: " + s.plan.Name
	return v
}

func (s *shell) draw() string {
	if s.w == 0 {
		return ""
	}
	if s.w < leastWidth || s.h < leastHeight {
		return ansi.Wrap(fmt.Sprintf("Night Drill needs %d columns and %d rows; this terminal has %d and %d. Enlarge "+
			"it, or press q to quit.", leastWidth, leastHeight, s.w, s.h), s.w, "")
	}
	c := canvas.New(s.w, s.h, s.theme)
	s.drawTop(c)
	s.visited[s.tab] = true
	s.noteDone()
	c.Draw(0, 2, s.current().Draw(s.theme))
	s.drawBottom(c)
	if s.help {
		s.drawHelp(c)
	}
	return c.String()
}

// drawTop draws the name, the views and what goes on, and the roster.
func (s *shell) drawTop(c *canvas.Canvas) {
	style, text := s.current().Title()
	if s.preparing != "" {
		style, text = canvas.Warm, s.preparing
	}
	x := 0
	if s.w >= 100 {
		x = c.Put(1, 0, canvas.Warm, "night drill")
	}
	fits := func(gap, more int) bool { // what goes on has the first right to the room, even where it grows a little
		for _, t := range tabs {
			more += gap + len(t.key) + 1 + len(t.name)
		}
		const growth = 4
		return x+more+3+ansi.StringWidth(text)+growth <= s.w
	}
	gap := 1
	if fits(3, 0) {
		gap = 3
	}
	if name := min(ansi.StringWidth(s.plan.Name), 28); x > 0 && fits(3, 2+name) {
		x = c.PutUpTo(x+2, 0, x+2+name, canvas.Plain, s.plan.Name)
	}
	short := !fits(1, 0) // then the other views are their numbers alone
	for i, t := range tabs {
		style := canvas.Dim
		if tab(i) == s.tab {
			style = canvas.Active
		}
		s.tabsAt[i][0] = x + gap
		if x = c.Put(x+gap, 0, canvas.Key, t.key); !short || tab(i) == s.tab {
			x = c.Put(x+1, 0, style, t.name)
		}
		s.tabsAt[i][1] = x
	}
	room := s.w - x - 3
	c.Right(s.w-1, 0, style, ansi.Truncate(text, room, "…"))
	s.drawRoster(c, 1)
}

// exportMap writes the map as a picture.
func (s *shell) exportMap(path string) tea.Cmd {
	w := s.wiring.Map()
	return func() tea.Msg {
		if err := export.WiringFile(path, w, false); err != nil {
			return msg.Failed(err)
		}
		return msg.Note{Text: "map written to " + path}
	}
}

func (s *shell) drawBottom(c *canvas.Canvas) {
	y := s.h - 1
	if err := s.stand.Wrong(); err != nil {
		first, more, _ := strings.Cut(err.Error(), "\n")
		if n := strings.Count(more, "\n"); more != "" {
			first = fmt.Sprintf("%s (and %d more)", first, n+1)
		}
		c.Put(1, y-1, canvas.Bad, text.Harmless("The project file has errors, the previous version stays in use: "+
			first))
	} else {
		s.drawHint(c, y-1)
	}
	switch {
	case s.prompt != nil:
		s.prompt.draw(c, y, s.commands())
		return
	case s.leaving:
		c.Put(1, y, canvas.Bad, "Stopping the drill; what was measured is kept. Ctrl-C again quits immediately.")
		return
	case s.asking:
		c.Put(1, y, canvas.Warm, "A drill is in progress. Stop it and quit? y / any other key")
		return
	case s.note != "":
		style := canvas.Bad
		if s.good {
			style = canvas.Warm
		}
		c.Put(1, y, style, text.Harmless(strings.Join(strings.Fields(s.note), " ")))
		return
	}
	// what always works stands on the right, so that it is never cut off
	edge := s.w - 1
	for _, b := range []key.Binding{keys.Quit, keys.Help} {
		edge -= ansi.StringWidth(b.Help().Key+b.Help().Desc) + 1
		x := c.Put(edge, y, canvas.Key, b.Help().Key)
		c.Put(x+1, y, canvas.Dim, b.Help().Desc)
		edge -= 3
	}
	x := 1
	for _, b := range s.current().Help() {
		h := b.Help()
		if x+ansi.StringWidth(h.Key+h.Desc)+1 > edge {
			break
		}
		x = c.Put(x, y, canvas.Key, h.Key)
		x = c.Put(x+1, y, canvas.Dim, h.Desc) + 3
	}
}

func (s *shell) drawHelp(c *canvas.Canvas) {
	title, own := tabs[s.tab].key+" "+tabs[s.tab].name, s.current().Keys()
	legend := []struct {
		glyph rune
		style canvas.Style
		text  string
	}{{'╌', canvas.Cold, "starting"}, {'◆', canvas.Cold, "cold: it waited for this start"},
		{'◇', canvas.Cold, "first: its start was not awaited"},
		{'▅', canvas.Warm, "warm, as high as it is busy"}, {'·', canvas.Faint, "idle"}, {'✗', canvas.Bad, "failed"},
		{'┤', canvas.Dim, "stopped, and why"}}
	if s.tab == onFire {
		legend = append(legend[1:3:3], legend[5])
		legend = append(legend, struct {
			glyph rune
			style canvas.Style
			text  string
		}{'●', canvas.Warm, "warm"})
	}
	// the view's keys on the left, and on the right where they are many; then
	// what holds everywhere, and what the signs mean
	w := min(s.w-2, 108)
	right := w / 2
	first := own
	var second []key.Binding
	if len(own) > 14 {
		first, second = own[:15], own[15:]
	}
	h := max(len(first)+3, len(second)+len(everywhere)+len(legend)+5)
	x, y := (s.w-w)/2, max((s.h-h)/2, 0)
	c.Frame(x, y, w, h, "Keys and symbols")
	put := func(x, at int, title string, list []key.Binding) int {
		c.Put(x, at, canvas.Bold, title)
		for i, b := range list {
			c.Put(x+1, at+1+i, canvas.Key, b.Help().Key)
			c.PutUpTo(x+8, at+1+i, x+right-3, canvas.Plain, b.Help().Desc)
		}
		return at + 1 + len(list)
	}
	put(x+2, y+1, title, first)
	at := y + 1
	if len(second) > 0 {
		at = put(x+right, at, "payloads and replies", second)
	}
	at = put(x+right, at, "everywhere", everywhere)
	c.Put(x+right, at, canvas.Bold, "signs")
	for i, g := range legend {
		c.Set(x+right+1, at+1+i, g.style, g.glyph)
		c.PutUpTo(x+right+4, at+1+i, x+w-1, canvas.Plain, g.text)
	}
}

// command is something that can be done by name.
type command struct {
	name string
	key  string // that does the same in the view, or ""
	do   func() tea.Cmd
}

// pressed returns the message of a key of this name.
func pressed(name string) tea.KeyPressMsg {
	switch name {
	case "enter":
		return tea.KeyPressMsg{Code: tea.KeyEnter}
	case "esc":
		return tea.KeyPressMsg{Code: tea.KeyEscape}
	case "space":
		return tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
	case "delete":
		return tea.KeyPressMsg{Code: tea.KeyDelete}
	}
	r, _ := utf8.DecodeRuneInString(name)
	return tea.KeyPressMsg{Code: r, Text: name}
}

func (s *shell) commands() []command {
	var out []command
	add := func(name, key string, do func() tea.Cmd) { out = append(out, command{name, key, do}) }
	for i, t := range tabs {
		add(strings.ToLower(t.name), t.key, func() tea.Cmd { return s.show(tab(i)) })
	}
	if s.running == nil {
		for i := range s.plan.Drills {
			d := &s.plan.Drills[i]
			add("start "+d.Name, "", func() tea.Cmd { return s.start(d) })
		}
	} else {
		add("stop", "", func() tea.Cmd { s.stop(); return nil })
	}
	for _, b := range s.current().Keys() { // what one key does in this view
		if k := b.Keys(); len(k) == 1 && k[0] == b.Help().Key {
			add(b.Help().Desc, k[0], func() tea.Cmd { return s.onKey(pressed(k[0])) })
		}
	}
	add("help", keys.Help.Help().Key, func() tea.Cmd { s.help = true; return nil })
	add("quit", keys.Quit.Help().Key, s.quit)
	slices.SortStableFunc(out, func(a, b command) int { return strings.Compare(a.name, b.name) })
	return out
}
