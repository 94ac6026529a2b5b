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

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/desk"
	"nightdrill/internal/store"
	"nightdrill/internal/tui/drillview"
	"nightdrill/internal/tui/findings"
	"nightdrill/internal/tui/paint"
)

// frame is the time between two frames while a drill runs.
const frame = 100 * time.Millisecond

// The smallest terminal that the views fit.
const (
	leastWidth  = 80
	leastHeight = 24
)

type view int

const (
	onDrill view = iota
	onFindings
)

var tabs = []struct {
	key, name string
	view      view
}{{"4", "Drill", onDrill}, {"5", "Findings", onFindings}}

// shell is the program's model.
type shell struct {
	desk     *desk.Desk
	ctx      context.Context
	theme    *paint.Theme
	w, h     int
	view     view
	drill    *drillview.Model
	findings *findings.Model
	running  *desk.Running
	auto     *plan.Drill // to be started at once
	help     bool
	prompt   *prompt // the command line, while it is open
	note     string  // said in the bottom line until the next key
	asking   bool    // whether to stop the drill and leave
	leaving  bool
	broken   bool // interrupted while a drill ran
}

type (
	tickMsg  struct{}
	endedMsg struct {
		run  *measure.Run
		page *measure.Page
	}
	lanesMsg struct {
		run *measure.Run
		err error
	}
	runsMsg   struct{ all []store.Info }
	loadedMsg struct {
		page *measure.Page
		id   string
		err  error
	}
	// interruptMsg is a signal from outside, or Ctrl-C.
	interruptMsg struct{}
)

// ErrInterrupted says that the program was interrupted while a drill ran.
var ErrInterrupted = errors.New("interrupted")

// Run opens the full-screen program on a project. A drill that is given starts
// at once. It returns when the user leaves; no process is left then.
func Run(ctx context.Context, d *desk.Desk, drill *plan.Drill, in io.Reader, out io.Writer) error {
	// the drill ends in order after the screen has, whatever ended the screen
	s := &shell{desk: d, ctx: context.WithoutCancel(ctx), theme: paint.NewTheme(true), drill: drillview.New(d.Project, d.Runs.Blob), findings: findings.New(), auto: drill}
	p := tea.NewProgram(s, tea.WithInput(in), tea.WithOutput(out), tea.WithoutSignalHandler())
	left := make(chan struct{})
	go func() {
		select {
		case <-ctx.Done():
			p.Send(interruptMsg{})
		case <-left:
		}
	}()
	_, err := p.Run()
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
	cmds := []tea.Cmd{tea.RequestBackgroundColor, s.listRuns}
	if s.auto != nil {
		d := s.auto
		cmds = append(cmds, func() tea.Msg { return drillview.Start{Drill: d} })
	}
	return tea.Batch(cmds...)
}

func (s *shell) listRuns() tea.Msg {
	all, err := s.desk.Runs.List()
	if err != nil {
		return loadedMsg{err: err}
	}
	return runsMsg{all}
}

func (s *shell) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		s.w, s.h = msg.Width, msg.Height
		s.drill.Resize(s.w, s.h-4)
		s.findings.Resize(s.w, s.h-4)
	case tea.BackgroundColorMsg:
		s.theme = paint.NewTheme(msg.IsDark())
	case tea.KeyPressMsg:
		return s, s.onKey(msg)
	case interruptMsg:
		return s, s.interrupt()
	case drillview.Start:
		return s, s.start(msg.Drill)
	case drillview.Stop:
		s.stop()
	case tickMsg:
		return s, s.tick()
	case endedMsg:
		return s, s.ended(msg)
	case runsMsg:
		s.findings.Runs(msg.all)
		if s.findings.Empty() && s.running == nil && len(msg.all) > 0 {
			return s, s.load(msg.all[0].ID)
		}
	case findings.Load:
		return s, s.load(msg.ID)
	case findings.Lanes:
		s.view = onDrill
		if s.running == nil && s.drill.Shown() != s.findings.Shown() {
			return s, s.lanes(s.findings.Shown())
		}
		s.drill.Return()
	case lanesMsg:
		if msg.err != nil {
			s.note = msg.err.Error()
		} else if s.running == nil {
			s.drill.Show(msg.run)
		}
	case loadedMsg:
		if msg.err != nil {
			s.findings.Trouble(msg.err.Error())
		} else {
			s.findings.Show(msg.page)
		}
	}
	return s, nil
}

// start begins a drill and shows it.
func (s *shell) start(d *plan.Drill) tea.Cmd {
	if s.running != nil {
		return nil
	}
	r, err := s.desk.Start(s.ctx, d, nil)
	if err != nil {
		s.note = err.Error()
		return nil
	}
	s.running, s.view = r, onDrill
	s.drill.Begin(d, r.Snapshot())
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
	s.drill.Update(s.running.Snapshot(), s.running.Looks())
	return s.nextTick()
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
		s.note = err.Error()
	}
	s.running = nil
	s.drill.Ended(m.run)
	s.findings.Show(m.page)
	if s.leaving {
		return tea.Quit
	}
	s.view, s.asking = onFindings, false
	return s.listRuns
}

func (s *shell) load(id string) tea.Cmd {
	s.findings.Loading(id)
	runs := s.desk.Runs
	return func() tea.Msg {
		p, err := runs.Page(id)
		return loadedMsg{page: p, id: id, err: err}
	}
}

// lanes reads a run whole, for the Drill view.
func (s *shell) lanes(id string) tea.Cmd {
	s.drill.Loading(id)
	runs := s.desk.Runs
	return func() tea.Msg {
		r, err := runs.Load(id)
		return lanesMsg{r, err}
	}
}

// interrupt leaves: at once when nothing runs, else when the drill has ended
// in order; a second time, without waiting for that on the screen.
func (s *shell) interrupt() tea.Cmd {
	if s.running == nil || s.leaving {
		s.broken = s.broken || s.running != nil
		return tea.Quit
	}
	s.leaving, s.broken = true, true
	s.stop()
	return nil
}

// The shell's own keys.
var keys = struct{ Quit, Help, Command, Next, Interrupt key.Binding }{
	Quit:      key.NewBinding(key.WithKeys("q"), key.WithHelp("q", "leave")),
	Help:      key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "all keys")),
	Command:   key.NewBinding(key.WithKeys(":"), key.WithHelp(":", "a command by name")),
	Next:      key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "the next view")),
	Interrupt: key.NewBinding(key.WithKeys("ctrl+c")),
}

func (s *shell) onKey(k tea.KeyPressMsg) tea.Cmd {
	s.note = ""
	switch {
	case key.Matches(k, keys.Interrupt):
		return s.interrupt()
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
		s.prompt = &prompt{}
	case key.Matches(k, keys.Quit):
		return s.quit()
	case key.Matches(k, keys.Next):
		s.view = tabs[(int(s.view)+1)%len(tabs)].view
	default:
		for _, t := range tabs {
			if k.String() == t.key {
				s.view = t.view
				return nil
			}
		}
		if s.view == onDrill {
			return s.drill.Key(k)
		}
		return s.findings.Key(k)
	}
	return nil
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
	v.WindowTitle = "Night Drill: " + s.desk.Name
	return v
}

func (s *shell) draw() string {
	if s.w == 0 {
		return ""
	}
	if s.w < leastWidth || s.h < leastHeight {
		return ansi.Wrap(fmt.Sprintf("Night Drill needs %d columns and %d rows; this terminal has %d and %d. Make it larger, or press q to leave.", leastWidth, leastHeight, s.w, s.h), s.w, "")
	}
	c := paint.New(s.w, s.h, s.theme)
	s.drawTop(c)
	body := s.drill.Draw
	if s.view == onFindings {
		body = s.findings.Draw
	}
	c.Draw(0, 2, body(s.theme))
	s.drawBottom(c)
	if s.help {
		s.drawHelp(c)
	}
	return c.String()
}

// drawTop draws the name, the views and what goes on, and the roster.
func (s *shell) drawTop(c *paint.Canvas) {
	x := c.Put(1, 0, paint.Warm, "night drill")
	if s.w >= 100 {
		x = c.PutUpTo(x+2, 0, x+30, paint.Plain, s.desk.Name)
	}
	for _, t := range tabs {
		style := paint.Dim
		if t.view == s.view {
			style = paint.Active
		}
		x = c.Put(x+3, 0, paint.Key, t.key)
		x = c.Put(x+1, 0, style, t.name)
	}
	title := s.drill.Title
	if s.view == onFindings {
		title = s.findings.Title
	}
	style, text := title()
	room := s.w - x - 4
	c.Right(s.w-1, 0, style, ansi.Truncate(text, room, "…"))
	s.drawRoster(c, 1)
}

// drawRoster says of each function what its next event would meet.
func (s *shell) drawRoster(c *paint.Canvas, y int) {
	x := 1
	looks := s.drill.Looks()
	for i := range s.desk.Functions {
		if x >= s.w-12 {
			c.Put(s.w-2, y, paint.Dim, "…")
			return
		}
		x = c.Put(x, y, paint.Bold, s.desk.Functions[i].Name)
		style, text := paint.Dim, "no instance, next: cold"
		if s.running != nil && i < len(looks) {
			style, text = meets(&looks[i], s.drill.Now())
		}
		x = c.Put(x+1, y, style, text) + 4
	}
}

// meets says what the next event of a function would meet.
func meets(l *engine.Look, now clock.Time) (paint.Style, string) {
	switch {
	case l.Idle > 0 && l.IdleStop != clock.Never:
		return paint.Warm, fmt.Sprintf("%s, warm, idle stop in %.1f s", instances(l.Ready), max(l.IdleStop.Sub(now), 0).Seconds())
	case l.Idle > 0:
		return paint.Warm, instances(l.Ready) + ", warm"
	case l.Ready > 0 && l.Waiting > 0:
		return paint.Plain, fmt.Sprintf("%s, all busy, %d waiting", instances(l.Ready), l.Waiting)
	case l.Ready > 0:
		return paint.Plain, instances(l.Ready) + ", all busy"
	case l.Starting > 0:
		return paint.Cold, fmt.Sprintf("%d starting", l.Starting)
	}
	return paint.Cold, "no instance, next: cold"
}

func instances(n int) string {
	if n == 1 {
		return "1 instance"
	}
	return fmt.Sprintf("%d instances", n)
}

func (s *shell) drawBottom(c *paint.Canvas) {
	y := s.h - 1
	switch {
	case s.prompt != nil:
		s.prompt.draw(c, y, s.commands())
		return
	case s.leaving:
		c.Put(1, y, paint.Bad, "Stopping the drill; what was measured is kept. Ctrl-C again leaves without watching.")
		return
	case s.asking:
		c.Put(1, y, paint.Warm, "A drill is under way. Stop it and leave? y / any other key")
		return
	case s.note != "":
		c.Put(1, y, paint.Bad, strings.Join(strings.Fields(s.note), " "))
		return
	}
	// what always works stands on the right, so that it is never cut off
	edge := s.w - 1
	for _, b := range []key.Binding{keys.Quit, keys.Help} {
		edge -= ansi.StringWidth(b.Help().Key+b.Help().Desc) + 1
		x := c.Put(edge, y, paint.Key, b.Help().Key)
		c.Put(x+1, y, paint.Dim, b.Help().Desc)
		edge -= 3
	}
	x := 1
	for _, b := range s.viewHelp() {
		h := b.Help()
		if x+ansi.StringWidth(h.Key+h.Desc)+1 > edge {
			break
		}
		x = c.Put(x, y, paint.Key, h.Key)
		x = c.Put(x+1, y, paint.Dim, h.Desc) + 3
	}
}

func (s *shell) viewHelp() []key.Binding {
	if s.view == onFindings {
		return s.findings.Help()
	}
	return s.drill.Help()
}

func (s *shell) drawHelp(c *paint.Canvas) {
	d, f := drillview.Keys, findings.Keys
	rows := []struct {
		title string
		keys  []key.Binding
	}{
		{"everywhere", []key.Binding{keys.Next, keys.Command, keys.Help, keys.Quit}},
		{"4 Drill", []key.Binding{d.Start, d.Stop, d.Up, d.Left, d.Open, d.Close, d.In, d.Back, d.All}},
		{"5 Findings", []key.Binding{f.Older, f.Lanes, f.Up}},
	}
	legend := []struct {
		glyph rune
		style paint.Style
		text  string
	}{{'╌', paint.Cold, "starting"}, {'◆', paint.Cold, "cold: it waited for this start"}, {'◇', paint.Cold, "first answer, its start not awaited"},
		{'▅', paint.Warm, "warm, as high as it is busy"}, {'·', paint.Faint, "idle"}, {'✗', paint.Bad, "failed"}, {'┤', paint.Dim, "stopped, and why"}}
	// keys on the left, what the lanes show on the right
	const w, right = 76, 36
	h := 2
	for _, r := range rows {
		h += len(r.keys) + 1
	}
	x, y := (s.w-w)/2, max((s.h-h)/2, 0)
	c.Frame(x, y, w, h, "keys, and what the lanes show")
	at := y + 1
	for _, r := range rows {
		c.Put(x+2, at, paint.Bold, r.title)
		at++
		for _, b := range r.keys {
			c.Put(x+3, at, paint.Key, b.Help().Key)
			c.PutUpTo(x+10, at, x+right-1, paint.Plain, b.Help().Desc)
			at++
		}
	}
	c.Put(x+right, y+1, paint.Bold, "lanes")
	for i, g := range legend {
		c.Set(x+right+1, y+2+i, g.style, g.glyph)
		c.PutUpTo(x+right+4, y+2+i, x+w-1, paint.Plain, g.text)
	}
}

// command is something that can be done by name.
type command struct {
	name string
	do   func() tea.Cmd
}

func (s *shell) commands() []command {
	var out []command
	add := func(name string, do func() tea.Cmd) { out = append(out, command{name, do}) }
	for _, t := range tabs {
		add(strings.ToLower(t.name), func() tea.Cmd { s.view = t.view; return nil })
	}
	if s.running == nil {
		for i := range s.desk.Drills {
			d := &s.desk.Drills[i]
			add("start "+d.Name, func() tea.Cmd { return s.start(d) })
		}
	} else {
		add("stop", func() tea.Cmd { s.stop(); return nil })
	}
	add("help", func() tea.Cmd { s.help = true; return nil })
	add("quit", s.quit)
	slices.SortStableFunc(out, func(a, b command) int { return strings.Compare(a.name, b.name) })
	return out
}
